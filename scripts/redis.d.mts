/** The path of Redis, or undefined. */
export function redisPath(): string | undefined;
/** What it is started in. */
export function redisEnvironment(): NodeJS.ProcessEnv;
