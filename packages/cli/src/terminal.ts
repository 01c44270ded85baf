import { randomUUID } from "node:crypto";
import pc from "picocolors";

const { FORCE_COLOR, NO_COLOR, TERM } = process.env;
const forced = FORCE_COLOR !== undefined && FORCE_COLOR !== "" && FORCE_COLOR !== "0";
/** Colours for a terminal; plain text for a pipe, a file or a CI log, whatever else they claim to take. */
const coloured = pc.createColors(forced || (process.stdout.isTTY === true && !NO_COLOR && TERM !== "dumb"));

/** Stands for the beginning of this program's own colours until they are printed: nobody else can know it. */
const mark = randomUUID();

type Style = (text: string) => string;
function styled(style: (text: string) => string): Style {
  const [open = "", close = ""] = style("|").split("|");
  const marked = (sequence: string) => sequence.replaceAll("\u001b[", mark);
  return (text) => marked(open) + text + marked(close);
}

/** What is wrapped in them is coloured when it is printed by `print` or `printError`, and only then. */
export const colours: Record<"bold" | "dim" | "red" | "green" | "yellow" | "cyan", Style> = {
  bold: styled(coloured.bold),
  dim: styled(coloured.dim),
  red: styled(coloured.red),
  green: styled(coloured.green),
  yellow: styled(coloured.yellow),
  cyan: styled(coloured.cyan),
};

/** A longer line than this tells nobody anything, in characters. */
const longestLine = 4000;
const mostLines = 2000;

/** What this program prints goes through here, so that no server's text is ever obeyed by a terminal. */
export function print(text: string): void {
  console.log(forTerminal(text));
}

export function printError(text: string): void {
  console.error(forTerminal(text));
}

/**
 * The text as it may be printed: control characters (C0 but for line ends, DEL, C1) and those that turn the reading
 * direction or hide are written as escapes, this program's own colours are put in, and what is too long is cut.
 */
export function forTerminal(text: string): string {
  const lines = text.split("\n");
  const cut = lines
    .slice(0, mostLines)
    .map((line) => (line.length > longestLine ? `${line.slice(0, longestLine)}…` : line));
  if (lines.length > mostLines) cut.push(`… and ${lines.length - mostLines} lines more`);
  return cut.map(escaped).join("\n").replaceAll(mark, "\u001b[");
}

function escaped(line: string): string {
  return line.replace(
    /[\p{Cc}\u00ad\u061c\u180e\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ufff9-\ufffb]/gu,
    (character) => `\\u${character.charCodeAt(0).toString(16).padStart(4, "0")}`,
  );
}
