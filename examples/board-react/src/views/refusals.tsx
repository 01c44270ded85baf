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
  const tell = useCallback((failure: Told) => {
    setList((before) => [...before, { number: (before.at(-1)?.number ?? 0) + 1, failure }]);
  }, []);
  /** @param run rejects, or resolves with a failure, where it was refused */
  const watch = useCallback(
    (run: Promise<{ readonly failure?: Told | undefined } | void>) => {
      run.then((outcome) => outcome?.failure && tell(outcome.failure), tell);
    },
    [tell],
  );
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
