import type { Member } from "./members.js";

const said = new Set<string>();

/**
 * In development: a member of a live reading was looked at where its framework follows nothing, so that it stays as it is now.
 * Once for each source and member.
 * @param where the place, in the framework's words
 * @param instead the code to write in place of it
 */
export function warnTakenApart(source: string, member: Member, where: string, instead: string): void {
  const about = `${source} ${member}`;
  if (said.has(about)) return;
  said.add(about);
  console.warn(
    `Cista: "${member}" of a reading of "${source}" was looked at in ${where}, where nothing is followed: it stays as it is now. Keep the reading whole, or write ${instead}. For the value of this moment, cache.peek(${source}, params).${member}.`,
  );
}
