import { useCallback, useEffect, useState } from "react";
import type { Told } from "../../board-react/src/world.js";

/** `fetch` resolves for a 404 and a 500 too: here they are errors, with what the server said of them. */
export class HttpError extends Error implements Told {
  readonly kind: string;
  readonly status: number;
  readonly problem: { title?: string; detail?: string };

  constructor(message: string, kind: string, status = 0, problem = {}) {
    super(message);
    this.kind = kind;
    this.status = status;
    this.problem = problem;
  }
}

/** @throws HttpError, or the signal's reason */
export async function send<T>(url: string, init: RequestInit = {}): Promise<{ body: T; headers: Headers }> {
  let response: Response;
  try {
    response = await fetch(url, init);
  } catch (thrown) {
    if (init.signal?.aborted) throw thrown;
    throw new HttpError(`${url} gave no answer`, "network");
  }
  const isJson = /\bjson\b/.test(response.headers.get("content-type") ?? "");
  const body = isJson ? await response.json() : undefined;
  if (!response.ok) throw new HttpError(`${url} answered ${response.status}`, "http", response.status, body);
  if (!isJson && response.status !== 204) throw new HttpError(`${url} did not answer with JSON`, "shape");
  return { body, headers: response.headers };
}

export type Fetched<T> =
  | { state: "loading"; value?: undefined }
  | { state: "ready"; value: T }
  | { state: "missing"; value?: undefined }
  | { state: "failed"; value?: undefined; error: HttpError };

interface Options<T> {
  /** Takes what is wanted out of the body. */
  unwrap?: (body: any) => T;
  /** While another address loads, what the last one brought stays. */
  keep?: boolean;
}

/** Asks when the address changes, when `again` is called and when the page is looked at again. */
export function useFetched<T>(url: string | undefined, { unwrap, keep = false }: Options<T> = {}) {
  const [last, setLast] = useState<{ url: string; fetched: Fetched<T> }>();
  const [asking, setAsking] = useState(false);
  const [round, setRound] = useState<{ url?: string | undefined; cache: RequestCache }>({ cache: "default" });
  // Whoever says "now" is not to be answered from the browser's own cache.
  const again = useCallback((cache: RequestCache = "no-cache") => setRound({ url, cache }), [url]);

  // biome-ignore lint/correctness/useExhaustiveDependencies: how to unwrap does not change
  useEffect(() => {
    if (url === undefined) return;
    const controller = new AbortController();
    const settle = (change: (before: Fetched<T> | undefined) => Fetched<T>) => {
      if (controller.signal.aborted) return; // an old answer must not win
      setLast((before) => ({ url, fetched: change(before?.url === url ? before.fetched : undefined) }));
      setAsking(false);
    };
    setAsking(true);
    const cache = round.url === url ? round.cache : "default";
    send(url, { signal: controller.signal, cache }).then(
      ({ body }) => settle(() => ({ state: "ready", value: unwrap ? unwrap(body) : (body as T) })),
      (error: HttpError) =>
        settle((before) => {
          if (error.status === 404 || error.status === 410) return { state: "missing" };
          return before?.state === "ready" ? before : { state: "failed", error };
        }),
    );
    return () => controller.abort();
  }, [url, round]);

  useEffect(() => {
    const look = () => document.visibilityState === "visible" && again("default");
    document.addEventListener("visibilitychange", look);
    return () => document.removeEventListener("visibilitychange", look);
  }, [again]);

  const fits = last && (last.url === url || (keep && last.fetched.state === "ready"));
  const fetched: Fetched<T> = fits ? last.fetched : { state: "loading" };
  return { fetched, asking, again };
}
