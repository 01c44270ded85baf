import type { Failure } from "cista";

/** What went wrong, for a person: the server's own words, else a plain sentence. */
export function said({ kind, problem }: Failure): string {
  if (problem?.detail ?? problem?.title) return (problem.detail ?? problem.title) as string;
  return kind === "network" ? "The network gave no answer." : "This could not be done. Try again later.";
}
