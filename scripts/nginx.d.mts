/** The path of nginx, or undefined. */
export function nginxPath(): string | undefined;
