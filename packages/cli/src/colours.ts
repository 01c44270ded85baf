import pc from "picocolors";

const { FORCE_COLOR, NO_COLOR, TERM } = process.env;
const forced = FORCE_COLOR !== undefined && FORCE_COLOR !== "" && FORCE_COLOR !== "0";

/** Colours for a terminal; plain text for a pipe, a file or a CI log, whatever else they claim to take. */
export const colours: ReturnType<typeof pc.createColors> = pc.createColors(
  forced || (process.stdout.isTTY === true && !NO_COLOR && TERM !== "dumb"),
);
