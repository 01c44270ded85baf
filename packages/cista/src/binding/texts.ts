import type { Failure, FailureKind, Reading } from "../core/index.js";

/** The default texts for people: in any language, given once, where the cache is provided. */
export interface Texts {
  /** Nothing has been asked for. */
  readonly empty: string;
  readonly loading: string;
  /** The request waits for the network. */
  readonly offline: string;
  readonly missing: string;
  /** On the button that asks again. */
  readonly tryAgain: string;
  /** Why there is nothing to show. */
  readonly failed: (failure: Failure) => string;
}

const sentences: Partial<Record<FailureKind, string>> = {
  network: "The network gave no answer.",
  timeout: "No answer came in time.",
  "not-cached": "This is not there without the network.",
};

/** In English. A failure is told by the server's own detail or title (RFC 9457), else by a plain sentence: never by a URL. */
export const englishTexts: Texts = {
  empty: "Nothing to show yet.",
  loading: "Loading…",
  offline: "Offline: waiting for the network.",
  missing: "There is no such thing.",
  tryAgain: "Try again",
  failed: ({ kind, problem }) =>
    problem?.detail ?? problem?.title ?? sentences[kind] ?? "Something went wrong. This could not be loaded.",
};

/** The text while there is nothing to show. */
export function waitingText(texts: Texts, reading?: Pick<Reading<unknown>, "state" | "request">): string {
  if (reading?.state === "empty") return texts.empty;
  return reading?.request === "offline" ? texts.offline : texts.loading;
}
