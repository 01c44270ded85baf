const units: readonly (readonly [length: number, one: string, many: string])[] = [
  [365 * 86_400_000, "year", "years"],
  [86_400_000, "day", "days"],
  [3_600_000, "hour", "hours"],
  [60_000, "minute", "minutes"],
];

/** A length of time as a person says it: "60 s", "5 minutes", "1 hour", "365 days". */
export function inWords(milliseconds: number): string {
  if (milliseconds === Number.POSITIVE_INFINITY) return "ever";
  if (milliseconds < 120_000) return `${Math.round(milliseconds / 1000)} s`;
  for (const [length, one, many] of units) {
    const count = Math.round(milliseconds / length);
    if (milliseconds >= length) return `${count} ${count === 1 ? one : many}`;
  }
  return `${Math.round(milliseconds / 1000)} s`;
}

export function bytesInWords(bytes: number): string {
  return bytes < 1000 ? `${bytes} bytes` : `${(bytes / 1000).toFixed(1)} kB`;
}

/** A JSON value's shape in one line: member names and kinds. */
export function shapeOf(value: unknown, depth = 0): string {
  if (value === null) return "null";
  if (Array.isArray(value)) {
    if (depth >= 6) return "…";
    return value.length === 0
      ? "an empty array"
      : `${value.length} × ${shapeOf(typical(value), depth + (Array.isArray(value[0]) ? 1 : 0))}`;
  }
  if (typeof value !== "object") return typeof value;
  const members = Object.entries(value);
  if (members.length === 0) return "{}";
  if (depth >= 3) return "{ … }";
  const shown = members.slice(0, 20).map(([name, member]) => `${nameOf(name)}: ${shapeOf(member, depth + 1)}`);
  return `{ ${[...shown, ...(members.length > 20 ? [`… ${members.length - 20} more`] : [])].join(", ")} }`;
}

/** One item that stands for all: of objects each member's first value that tells something. */
export function typical(items: readonly unknown[]): unknown {
  const tells = (value: unknown) =>
    value !== null && value !== undefined && !(Array.isArray(value) && value.length === 0);
  const [first] = items;
  if (typeof first !== "object" || first === null || Array.isArray(first)) return items.find(tells) ?? first;
  const all: Record<string, unknown> = {};
  for (const item of items.slice(0, 100)) {
    for (const [name, value] of Object.entries(item ?? {})) if (!tells(all[name])) all[name] = value;
  }
  return all;
}

/** Broken at spaces into lines that fit. */
export function inLines(text: string, width: number): string[] {
  const lines: string[] = [];
  let line = "";
  for (const word of text.split(" ")) {
    if (line !== "" && line.length + word.length >= width) {
      lines.push(line);
      line = "";
    }
    line += line === "" ? word : ` ${word}`;
  }
  return [...lines, line];
}

function nameOf(name: string): string {
  if (name.length > 60) return JSON.stringify(`${name.slice(0, 59)}…`);
  return /^[A-Za-z_$][\w$]*$/.test(name) ? name : JSON.stringify(name);
}
