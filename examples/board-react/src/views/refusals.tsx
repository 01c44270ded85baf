import { useCallback, useState } from "react";
import type { Told } from "../world.js";

/** A change that was shown and then taken back, in the server's own words. */
interface Refusal {
  readonly number: number;
  readonly failure: Told;
}

/** The refusals of one panel's changes: `watch` a run, and it is shown until it is put away. */
export function useRefusals() {
  const [list, setList] = useState<readonly Refusal[]>([]);
  const watch = useCallback((run: Promise<unknown>) => {
    run.catch((failure: Told) => {
      setList((before) => [...before, { number: (before.at(-1)?.number ?? 0) + 1, failure }]);
    });
  }, []);
  const putAway = useCallback((number: number) => {
    setList((before) => before.filter((refusal) => refusal.number !== number));
  }, []);
  return { list, watch, putAway };
}

export function Refusals({ of: { list, putAway } }: { of: ReturnType<typeof useRefusals> }) {
  return (
    <div className="refusals">
      {list.map(({ number, failure }) => (
        <div className="trouble" role="alert" key={number}>
          <p>{failure.problem?.title ?? "This could not be sent"}</p>
          <p className="note">{failure.problem?.detail ?? failure.message}</p>
          <button type="button" onClick={() => putAway(number)}>
            Put away
          </button>
        </div>
      ))}
    </div>
  );
}
