/** How a load waits for another tab's: the next message, and whether that tab is still there. Rules B2, B8. */
import type { Hub } from "./hub.js";
import type { News } from "./messages.js";
import type { Turn } from "./turn.js";
import type { Heard, Wait } from "./wait.js";

/** How long a waiting tab is patient before it asks for a sign, and how long the sign may take, in milliseconds. */
const patience = 5000;
export const graceForSign = 1000;
/** When a waiting tab asks for a value that it may have missed, such as an open stream's last one. */
const askAfter = 30;

/** The next thing: our turn, or a message of the other tab. Asks whether that tab is still there, and takes its place if it is not. */
export async function nextHeard(
  hub: Hub,
  key: string,
  wait: Wait,
  turn: Turn,
  signal: AbortSignal,
): Promise<Exclude<Heard, { kind: "own" }> | "turn" | "own"> {
  const endAsking = hub.after(askAfter, () => {
    if (!turn.has && !turn.isOver) hub.tell({ kind: "wants", key, since: wait.since });
  });
  signal.addEventListener("abort", wait.wake, { once: true });
  const beganAt = hub.now();
  let hasLetPass = false;
  try {
    for (;;) {
      signal.throwIfAborted();
      const heard = wait.next();
      if (heard?.kind === "own") return "own";
      if (heard?.kind === "news" && isOver(hub, heard.news)) continue;
      if (heard) return heard;
      // On a busy machine the lock may come before a message that was told first: that message is let pass. A lock that was taken needs none.
      const isSure = hasLetPass || wait.askedAt > 0 || hub.now() - beganAt < askAfter;
      if (turn.has && isSure) return "turn";
      hasLetPass = turn.has;
      if (hub.isClosed || (turn.isOver && !hub.isFrozen)) return "own";
      const patient = wait.askedAt > 0 ? graceForSign : wait.lastSign + patience - hub.now();
      const endPatience = hub.after(hasLetPass ? 1 : Math.max(1, patient), wait.wake);
      await wait.changed();
      endPatience();
      if (!turn.has && !wait.hasNext && !signal.aborted && !hub.isFrozen) await watchHolder(hub, key, wait, turn);
    }
  } finally {
    endAsking();
    signal.removeEventListener("abort", wait.wake);
  }
}

/** The entry was invalidated since the news was heard. Or it is the news that a value is the same, and another value is held by now. */
function isOver({ moments }: Hub, { key, at, as }: News): boolean {
  return at <= moments.of(key).invalidatedAt || (as !== undefined && !moments.holds(key, as));
}

async function watchHolder(hub: Hub, key: string, wait: Wait, turn: Turn): Promise<void> {
  const now = hub.now();
  const { askedAt } = wait;
  if (askedAt === 0) {
    if (now - wait.lastSign < patience) return;
    wait.askedAt = now;
    hub.tell({ kind: "asks", key });
    hub.after(graceForSign, wait.wake);
  } else if (now - askedAt >= graceForSign) {
    // One after the other: timers of hidden pages go off in the same moment in all of them.
    await hub.locks?.request(hub.lockName(`heir ${key}`), {}, async () => {
      if (wait.hasNext || turn.has || turn.isOver || wait.askedAt !== askedAt || hub.isFrozen) return;
      await turn.steal();
      hub.tell({ kind: "alive", key });
    });
  }
}
