import { nightInWords } from "../time.js";
import type { Told } from "../world.js";

/** A booking, or the taking back of one, that has not been answered, or was refused. */
interface Kept {
  readonly id: string;
  readonly write: string;
  readonly input: unknown;
  readonly state: "waiting" | "sending" | "refused" | "unknown" | "other-user";
  readonly failure?: Told;
}

interface KeptProps {
  list: readonly Kept[];
  again(id: string): void;
  putAway(id: string): void;
}

export function KeptList({ list, again, putAway }: KeptProps) {
  // What is on its way is shown as not confirmed yet: only what stands still is told of here.
  const isStill = list.every(({ state }) => state !== "sending");
  const shown = list.filter(({ state }) => state !== "sending" && (state !== "waiting" || isStill));
  return (
    <div className="refusals">
      {shown.map(({ id, state, failure, ...kept }) => (
        <div
          className={state === "refused" ? "trouble" : "trouble waits"}
          role={state === "refused" ? "alert" : undefined}
          key={id}
        >
          <p>{failure?.problem?.title ?? titles[state]}</p>
          <p className="note">{failure ? (failure.problem?.detail ?? failure.message) : inWords(kept)}</p>
          {state === "refused" && (
            <button type="button" onClick={() => again(id)}>
              Send again
            </button>
          )}
          <button type="button" onClick={() => putAway(id)}>
            {state === "refused" ? "Put away" : "Give up"}
          </button>
        </div>
      ))}
    </div>
  );
}

const titles: Record<string, string> = {
  waiting: "Waits to be sent",
  unknown: "Of another version of this page: not sent",
  "other-user": "Of another walker: sent when that one is signed in",
  refused: "This could not be sent",
};

function inWords({ write, input }: Pick<Kept, "write" | "input">): string {
  if (typeof input === "string") return `Taking back the night ${nightInWords(input)}`;
  const { night = "", name = "a hut" } = (input ?? {}) as { night?: string; name?: string };
  return write === "book" ? `A bunk at ${name}, the night ${nightInWords(night)}` : write;
}
