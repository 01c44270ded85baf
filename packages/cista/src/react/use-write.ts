import { useCallback, useMemo, useRef, useState } from "react";
import type { Failure, SendingPhase, Write } from "../core/index.js";
import { useCache } from "./context.js";

/** How far the last run has come. */
export interface WriteStatus<R> {
  readonly phase: "none" | SendingPhase | "done" | "failed";
  readonly result?: R;
  readonly failure?: Failure;
  /** Back to "none": what was said of the last run is no longer shown. The run itself goes on. */
  readonly reset: () => void;
}

export type RunWrite<I, R> = (...input: [I] extends [void] ? [] : [input: I]) => Promise<R>;

/**
 * Runs a write, and tells how far its last run has come. The run goes on when the component goes away; a failure is shown
 * in `sending`, and need not be caught too.
 * @throws CistaError code "no-provider"
 */
export function useWrite<I, R>(write: Write<I, R>): readonly [run: RunWrite<I, R>, sending: WriteStatus<R>] {
  const cache = useCache();
  const latest = useRef(0);
  const [state, setState] = useState<Omit<WriteStatus<R>, "reset">>({ phase: "none" });
  const reset = useCallback(() => {
    latest.current++;
    setState({ phase: "none" });
  }, []);
  const run = useCallback(
    (input?: I) => {
      const own = ++latest.current;
      const tell = (next: Omit<WriteStatus<R>, "reset">) => {
        if (own === latest.current) setState(next);
      };
      tell({ phase: "sending" }); // at once, also while what sends it is still being loaded
      const options = { onPhase: (phase: SendingPhase) => tell({ phase }) };
      const result = cache.run<any, R>(write as Write<any, R>, input, options);
      result.then(
        (result) => tell({ phase: "done", result }),
        (failure) => tell({ phase: "failed", failure }),
      );
      return result;
    },
    [cache, write],
  );
  const sending = useMemo(() => ({ ...state, reset }), [state, reset]);
  return [run as RunWrite<I, R>, sending];
}
