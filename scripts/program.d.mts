/** The environment in which nginx and Redis go by the clock of the machine. */
export function environmentOfToday(): NodeJS.ProcessEnv;
