/** The path of a browser that can be run, or undefined. */
export function chromiumPath(): string | undefined;
/** Without a sandbox of its own (it may run as root) and without calls home. */
export const browserArguments: string[];
