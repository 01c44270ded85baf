/** What joined tabs need of the browser. Simulated in tests, where tabs are killed, frozen and held up. */

/** What the other tabs hear, one after the other as it was sent. */
export interface TabChannel {
  /** @throws what the platform throws for what cannot be cloned */
  post(message: unknown): void;
  close(): void;
}

/** Locks that one tab holds at a time, as Web Locks. */
export interface TabLocks {
  /**
   * Calls `hold` when it is this one's turn, and holds the lock until what that returns resolves. Rejects where the signal
   * was aborted before, or where another tab has stolen the lock.
   */
  request(
    name: string,
    how: { readonly signal?: AbortSignal; readonly steal?: boolean },
    hold: () => Promise<void> | undefined,
  ): Promise<unknown>;
}

/** What becomes of the page: it stands still and goes on; it leaves, and comes back as it was. */
export type LifeEvent = "freeze" | "resume" | "leave" | "return";

export interface TabPlatform {
  /** Milliseconds since the Unix epoch by a clock that nobody sets while the page is there (High Resolution Time §4). */
  now(): number;
  open(name: string, hear: (message: unknown) => void): TabChannel;
  /** Undefined where the context is not secure: then each tab asks for itself, and tells what it has learned. */
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
