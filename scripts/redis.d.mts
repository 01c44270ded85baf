/** The path of Redis, or undefined. */
export function redisPath(): string | undefined;
