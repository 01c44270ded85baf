/** The path of a browser that can be run, or undefined. */
export function chromiumPath(): string | undefined;
