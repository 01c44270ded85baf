/** An object with a list that changes, such as an outbox (`openOutbox` of `cista/browser`). */
export interface Listed<T> {
  /** The same list until something changes. */
  list(): readonly T[];
  subscribe(listener: () => void): () => void;
}

/** The list where there is nothing to list from yet, as before `openOutbox` has resolved. */
export const nothingListed: Listed<any> = { list: () => none, subscribe: () => () => {} };
const none: readonly never[] = [];
