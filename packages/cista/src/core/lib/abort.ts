/** Signals: made when they are first read, and heard by one listener each. */

/** An AbortController whose signal is made when it is first read: it costs more than all else of a request. */
export class LazyAbort {
  #controller: AbortController | undefined;
  #reason: unknown;
  isAborted = false;

  get signal(): AbortSignal {
    if (!this.#controller) {
      this.#controller = new AbortController();
      if (this.isAborted) this.#controller.abort(this.#reason);
    }
    return this.#controller.signal;
  }

  abort(reason: unknown): void {
    if (this.isAborted) return;
    this.isAborted = true;
    this.#reason = reason;
    this.#controller?.abort(reason);
  }

  /** @throws the reason */
  throwIfAborted(): void {
    if (this.isAborted) throw this.#reason;
  }
}

/** Callbacks by their signal: one listener on the signal itself, since platforms warn of a leak where there are many. */
const callbacksOf = new WeakMap<AbortSignal, Set<() => void>>();

/** Calls back once when the signal, which is not aborted yet, is aborted. Returns its own end. */
export function onAbort(signal: AbortSignal, callback: () => void): () => void {
  const callbacks = callbacksOf.get(signal) ?? listenTo(signal);
  const own = () => callback();
  callbacks.add(own);
  return () => void callbacks.delete(own);
}

function listenTo(signal: AbortSignal): Set<() => void> {
  const callbacks = new Set<() => void>();
  callbacksOf.set(signal, callbacks);
  const callAll = () => {
    for (const callback of [...callbacks]) if (callbacks.delete(callback)) callback();
  };
  signal.addEventListener("abort", callAll, { once: true });
  return callbacks;
}
