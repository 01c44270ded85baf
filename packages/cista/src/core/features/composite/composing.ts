/** How a composite's load reads its parts, and cycles. Rules D1, D2, D3, D4, D5. */
import { CistaError, Failure } from "../../api/failure.js";
import type { ArgumentsOf, LoadMode, Source } from "../../api/source-contract.js";
import { joinRequest } from "../../kernel/asking.js";
import { getOrCreateEntry, noteUse } from "../../kernel/keeping.js";
import { heldValue, untilAborted } from "../../kernel/waiting.js";
import { LazyAbort } from "../../lib/abort.js";
import type { Request } from "../../lib/request.js";
import { batch } from "../../state/batches.js";
import { assertNotDisposed, nowOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { Part, PartsReader } from "../../state/links.js";
import {
  isStaleThroughParts,
  linksOf,
  noteAsked,
  noteValueRead,
  notRead,
  releasePart,
  waveOfLoad,
} from "./dependencies.js";

/** One try of a load that reads dependencies. Reads after the end of the try have no effect. */
interface Reader {
  readonly entry: Entry;
  readonly request: Request;
  readonly current: LazyAbort;
  /** Ends its waits for dependencies: with the end of the try, however it came. */
  readonly waits: LazyAbort;
  /** Whether the load's own signal is heard. */
  hearsAbort: boolean;
  /** The dependencies that it has read so far: each once, however often it is read. */
  readonly parts: Part[];
  readonly partOf: Map<Entry, Part>;
  /** The present dependencies of the composite, with the versions read; only where a change of these is the cause of the load. */
  readonly madeOf: ReadonlyMap<Entry, number>;
  /** The version at which the change began that it belongs to: see `waveOf`. */
  readonly wave: number;
  /** Whether it is one of the loads that the change itself has caused. */
  readonly isCaused: boolean;
  /** The dependencies that failed in this try, with their failures: the load receives them without another request. */
  readonly failed: Map<Entry, unknown>;
}

/** A try of a composite's load begins. */
export function beginReading(entry: Entry, request: Request): PartsReader {
  const { current } = request;
  const { core } = entry.shelf;
  const { cause, mode } = entry.active();
  const links = linksOf(entry);
  if (links.partsRead.length > 0) links.forgetReads(); // of a try that failed
  links.failuresFromParts = new WeakSet();
  const before = cause === "dependency" ? links.parts : undefined;
  const madeOf = new Map(before?.map((part) => [part.entry, part.version]));
  const waits = new LazyAbort();
  const wave = waveOfLoad(entry, request);
  noteAsked(entry, request, wave);
  const reader: Reader = {
    entry,
    request,
    current,
    waits,
    hearsAbort: false,
    parts: [],
    partOf: new Map(),
    failed: new Map(),
    wave,
    isCaused: cause === "dependency",
    madeOf,
  };
  links.partsRead = reader.parts;
  links.endWaits = () => waits.abort(new Failure("aborted", "The load that read it is over."));
  return {
    get keys() {
      return reader.parts.map((part) => part.entry.key);
    },
    async spares() {
      // Stale only through its dependencies, and not requested by hand.
      const own = entry.ownStanding(nowOf(core));
      const throughParts = entry.isHeld && entry.version >= entry.invalidatedAt && own === "fresh";
      return throughParts && links.parts.length > 0 && mode === "default" && arePartsUnchanged(reader);
    },
    read: <P, U>(part: Source<P, U>, ...[params]: ArgumentsOf<P>) => {
      const value = readFor(reader, part, params) as Promise<U>;
      value.catch(() => {}); // a load that has failed by another part may not look at this one any more
      return value;
    },
  };
}

async function readFor(reader: Reader, part: Source<any, any>, params: unknown): Promise<unknown> {
  const { core } = reader.entry.shelf;
  reader.current.throwIfAborted();
  assertNotDisposed(core);
  return readPart(reader, getOrCreateEntry(core, part, params));
}

/** The signal of a try's waits: the load's own ends them too. */
function signalOfWaits(reader: Reader): AbortSignal {
  const { current, waits } = reader;
  const end = () => waits.abort(current.signal.reason);
  if (current.isAborted) end();
  else if (!reader.hearsAbort) current.signal.addEventListener("abort", end, { once: true });
  reader.hearsAbort = true;
  return waits.signal;
}

/** A dependent's load reads a part: revalidated first and waited for unless it is fresh (rule D2). */
async function readPart(reader: Reader, part: Entry): Promise<unknown> {
  const { entry, request } = reader;
  const { askedVersion, mode } = entry.active();
  const read = noteRead(reader, part);
  noteUse(part);
  // Read for this very answer already, and the same since: once is enough, also of a value without a lifetime.
  if (
    read.readAt >= request.startVersion &&
    read.version === part.changedAt &&
    part.held !== "none" &&
    !part.isInvalidated
  ) {
    return heldValue(part);
  }
  const settled = () => {
    // The whole is made of the oldest value that it has seen; a stream's next value begins anew.
    if (read.version === notRead || read.readAt < request.startVersion) noteValueRead(read);
    read.readAt = part.shelf.core.version;
  };
  try {
    if (reader.failed.has(part)) throw reader.failed.get(part);
    return await whileWaiting(reader, part, () => revalidatePart(reader, part, askedVersion, mode, settled));
  } catch (thrown) {
    if (thrown instanceof Failure) linksOf(entry).failuresFromParts.add(thrown);
    throw thrown;
  }
}

function noteRead(reader: Reader, part: Entry): Part {
  const { entry, parts, partOf } = reader;
  const known = partOf.get(part);
  if (known) return known;
  const read: Part = { entry: part, version: notRead, readAt: notRead, madeFor: [] };
  partOf.set(part, read);
  parts.push(read);
  if (parts.length > mostStreamParts && entry.active().isOpen) forgetPart(reader, mostStreamParts / 2);
  if (parts === linksOf(entry).partsRead) linksOf(part).dependents.add(entry); // kept: nothing lets go of what is being read
  return read;
}

/** So many parts of an open stream are known: those that it read first, and those that it read last. */
const mostStreamParts = 200;

/** A stream that reads other parts with each event would keep all of them. */
function forgetPart({ entry, parts, partOf }: Reader, index: number): void {
  const [oldest] = parts.splice(index, 1);
  if (!oldest) return;
  partOf.delete(oldest.entry);
  if (!entry.links?.parts.some((part) => part.entry === oldest.entry)) releasePart(oldest.entry, entry);
}

/** Rule D3: a request by hand goes all the way down in the same mode, to each dependency once. */
function revalidatePart(
  reader: Reader,
  part: Entry,
  askedVersion: number,
  mode: LoadMode,
  settled: () => void,
): Promise<unknown> {
  const { core } = part.shelf;
  const known =
    part.isFresh(nowOf(core)) && (part.version >= askedVersion || (part.policy.immutable && mode !== "reload"));
  if (known || isTheCause(reader, part) || wasAskedForIt(reader, part)) {
    settled();
    return heldValue(part);
  }
  // The composite waits by the end of the batch. An effect of the dependency's load, such as a deletion, finds it waiting.
  return batch(core, () => {
    const before = part.request;
    const waiters = joinRequest(
      part,
      askedVersion > 0 ? "manual" : "dependency",
      askedVersion > 0 ? mode : undefined,
      askedVersion,
    );
    const { request } = part;
    if (request && request !== before) noteAsked(part, request, reader.wave); // before its load begins
    waiters.onSettled(settled); // the version of the value that comes, whatever happens before it is looked at
    waiters.count++;
    return untilAborted(part, waiters, waiters.value, signalOfWaits(reader));
  });
}

/**
 * Whether the value that a part has now is why the whole is loaded again: it is new enough, whatever its lifetime. Asked for
 * again it would be another, and two wholes that share it would load each other for ever.
 */
function isTheCause({ madeOf }: Reader, part: Entry): boolean {
  const before = madeOf.get(part);
  return before !== undefined && part.changedAt !== before && part.held !== "none" && !part.isInvalidated;
}

/**
 * Whether a part has been asked for since the change began that this load belongs to. Once is enough: two wholes that share
 * parts without a lifetime would have each other loaded for ever.
 */
function wasAskedForIt({ isCaused, wave }: Reader, part: Entry): boolean {
  return isCaused && part.held !== "none" && part.version >= wave && !isStaleThroughParts(part);
}

/** Meanwhile its time-out stands still (rule D5), and a cycle would be seen (rule D4). */
async function whileWaiting<T>({ entry, request }: Reader, part: Entry, wait: () => Promise<T>): Promise<T> {
  const { awaited } = linksOf(entry);
  refuseCycle(entry, part);
  awaited.add(part);
  const resume = request.pauseTimeout();
  try {
    return await wait();
  } finally {
    awaited.delete(part);
    resume();
  }
}

/**
 * Rule D1: brings the dependencies of an entry that is stale only through them up to date, in the order in which they were read.
 * False at the first that is another than it was.
 */
async function arePartsUnchanged(reader: Reader): Promise<boolean> {
  const parts = reader.entry.links?.parts ?? [];
  for (const part of parts) {
    reader.current.throwIfAborted();
    if (part.entry.changedAt !== part.version) return false;
    // That it could not be had, or is missing, is a matter for the load.
    const settled = () => {
      part.readAt = part.entry.shelf.core.version;
    };
    const noteFailure = (thrown: unknown) => void reader.failed.set(part.entry, thrown);
    const brought = () => revalidatePart(reader, part.entry, 0, "default", settled).catch(noteFailure);
    await whileWaiting(reader, part.entry, brought);
    if (reader.failed.size > 0 || part.entry.changedAt !== part.version) return false;
  }
  return true; // what changed meanwhile is found when the answer is taken: see recheckParts
}

/**
 * Rule D4: a cycle of waits would have no end. A waiting entry has a smaller rank than the entries that it waits for. So only a
 * wait for an entry of a smaller rank can close a cycle, and is looked into. All entries that this one waits for, directly or
 * not, then get greater ranks than all others, in their order.
 */
function refuseCycle(dependent: Entry, part: Entry): void {
  const above = linksOf(dependent);
  const below = linksOf(part);
  const { core } = part.shelf;
  above.rank ||= ++core.rank;
  if (below.awaited.size === 0) below.rank = ++core.rank; // it waits for nothing
  if (below.rank > above.rank) return;
  const before = new Map<Entry, Entry | undefined>([[part, undefined]]);
  for (const [entry] of before) {
    if (entry === dependent) throw cycleError([dependent, ...wayTo(entry, before)]);
    for (const next of linksOf(entry).awaited) if (!before.has(next)) before.set(next, entry);
  }
  const reached = [...before.keys()].map(linksOf).sort((one, other) => one.rank - other.rank);
  for (const links of reached) links.rank = ++core.rank;
}

function cycleError(entries: readonly Entry[]): CistaError {
  const keys = entries.map(({ key }) => key).join(" → ");
  return new CistaError(
    "dependency-cycle",
    DEVELOPMENT &&
      `A load reads what is made of itself: ${keys}. Read something else, or put the common part into a source of its own.`,
  );
}

function wayTo(end: Entry, before: ReadonlyMap<Entry, Entry | undefined>): Entry[] {
  const way: Entry[] = [];
  for (let entry: Entry | undefined = end; entry; entry = before.get(entry)) way.unshift(entry);
  return way;
}
