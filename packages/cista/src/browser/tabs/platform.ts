/** The parts of the browser that joined tabs need. Simulated in tests, where tabs are killed, frozen and held up. */

/** A channel to the other tabs: they hear its messages in the order in which they were sent. */
export interface TabChannel {
  /** @throws the platform's error for a message that cannot be cloned, and for a closed channel */
  post(message: unknown): void;
  close(): void;
}

/** Locks that one tab holds at a time, as Web Locks. */
export interface TabLocks {
  /**
   * Calls `hold` when it is this one's turn, and holds the lock until the returned promise resolves. Rejects where the signal
   * was aborted before, or where another tab has stolen the lock.
   */
  request(
    name: string,
    how: { readonly signal?: AbortSignal; readonly steal?: boolean },
    hold: () => Promise<void> | undefined,
  ): Promise<unknown>;
}

/** The life of a page: it stands still and goes on; it leaves, and comes back as it was. */
export type LifeEvent = "freeze" | "resume" | "leave" | "return";

export interface TabPlatform {
  /** Milliseconds since the Unix epoch by a clock that is not set while the page is there (High Resolution Time §4). */
  now(): number;
  open(name: string, hear: (message: unknown) => void): TabChannel;
  /** Undefined where the context is not secure: then each tab asks for itself, and tells its answers. */
  readonly locks: TabLocks | undefined;
  /** Calls back at each. Returns its own end. */
  onLife(listener: (event: LifeEvent) => void): () => void;
}

/** The browser's own, or undefined where a page cannot hear others. */
export function browserTabs(): TabPlatform | undefined {
  if (typeof document === "undefined" || typeof BroadcastChannel === "undefined") return undefined;
  return {
    now: () => performance.timeOrigin + performance.now(),
    open(name, hear) {
      const channel = new BroadcastChannel(name);
      channel.onmessage = ({ data }) => hear(data);
      return { post: (message) => channel.postMessage(message), close: () => channel.close() };
    },
    locks: navigator.locks && {
      request: (name, how, hold) => navigator.locks.request(name, how as LockOptions, hold),
    },
    onLife,
  };
}

function onLife(listener: (event: LifeEvent) => void): () => void {
  const heard: [EventTarget, string, (event: Event) => void][] = [
    [document, "freeze", () => listener("freeze")],
    [document, "resume", () => listener("resume")],
    [window, "pagehide", () => listener("leave")],
    [window, "pageshow", (event) => (event as PageTransitionEvent).persisted && listener("return")],
  ];
  for (const [target, type, call] of heard) target.addEventListener(type, call);
  return () => {
    for (const [target, type, call] of heard) target.removeEventListener(type, call);
  };
}
