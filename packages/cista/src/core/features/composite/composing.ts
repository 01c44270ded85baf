/** How a composite's load reads its dependencies, and cycles. Rules D1, D2, D3, D4, D5. */
import { CistaError, Failure } from "../../api/failure.js";
import type { ArgumentsOf, LoadMode, Source } from "../../api/source-contract.js";
import { joinRequest } from "../../kernel/asking.js";
import { getOrCreateEntry, noteUse } from "../../kernel/keeping.js";
import { heldValue, untilAborted } from "../../kernel/waiting.js";
import { LazyAbort } from "../../lib/abort.js";
import { batch } from "../../state/batches.js";
import { assertNotDisposed, nowOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { EntryRequest } from "../../state/entry-request.js";
import type { Dependency, DependencyReader } from "../../state/links.js";
import {
  isStaleThroughDependencies,
  linksOf,
  noteAsked,
  noteTrusted,
  noteValueRead,
  notRead,
  releaseDependency,
  waveOfLoad,
} from "./dependencies.js";

/** One try of a load that reads dependencies. Reads after the end of the try have no effect. */
interface Reader {
  readonly entry: Entry;
  readonly request: EntryRequest;
  readonly current: LazyAbort;
  /** Ends its waits for dependencies: with the end of the try, however it came. */
  readonly waits: LazyAbort;
  /** Whether the load's own signal is heard. */
  hearsAbort: boolean;
  /** The dependencies that it has read so far: each once, however often it is read. */
  readonly dependencies: Dependency[];
  readonly dependencyOf: Map<Entry, Dependency>;
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
export function beginReading(entry: Entry, request: EntryRequest): DependencyReader {
  const { cause, current, mode } = request;
  const { core } = entry.shelf;
  const links = linksOf(entry);
  if (links.dependenciesRead.length > 0) links.forgetReads(); // of a try that failed
  links.failuresOfDependencies = new WeakSet();
  links.failedBy = undefined;
  const before = cause === "dependency" ? links.dependencies : undefined;
  const madeOf = new Map(before?.map((dependency) => [dependency.entry, dependency.version]));
  const waits = new LazyAbort();
  const wave = waveOfLoad(entry, request);
  noteAsked(entry, request, wave);
  const reader: Reader = {
    entry,
    request,
    current,
    waits,
    hearsAbort: false,
    dependencies: [],
    dependencyOf: new Map(),
    failed: new Map(),
    wave,
    isCaused: cause === "dependency",
    madeOf,
  };
  links.dependenciesRead = reader.dependencies;
  links.endWaits = () => waits.abort(new Failure("aborted", "The load that read it is over."));
  return {
    get keys() {
      return reader.dependencies.map((dependency) => dependency.entry.key);
    },
    async spares() {
      // Stale only through its dependencies, and not requested by hand.
      const own = entry.ownStanding(nowOf(core));
      const throughDependencies = entry.isHeld && entry.version >= entry.invalidatedAt && own === "fresh";
      return (
        throughDependencies && links.dependencies.length > 0 && mode === "default" && areDependenciesUnchanged(reader)
      );
    },
    read: <P, U>(dependency: Source<P, U>, ...[params]: ArgumentsOf<P>) => {
      const value = readFor(reader, dependency, params) as Promise<U>;
      value.catch(() => {}); // a load that has failed by another dependency may not look at this one any more
      return value;
    },
  };
}

async function readFor(reader: Reader, dependency: Source<any, any>, params: unknown): Promise<unknown> {
  const { core } = reader.entry.shelf;
  reader.current.throwIfAborted();
  assertNotDisposed(core);
  return readDependency(reader, getOrCreateEntry(core, dependency, params));
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

/** A dependent's load reads a dependency: revalidated first and waited for unless it is fresh (rule D2). */
async function readDependency(reader: Reader, dependency: Entry): Promise<unknown> {
  const { entry, request } = reader;
  const { askedVersion, mode } = request;
  const read = noteRead(reader, dependency);
  noteUse(dependency);
  // Read for this very answer already, and the same since: once is enough, also of a value without a lifetime.
  if (
    read.readAt >= request.startVersion &&
    read.version === dependency.changedAt &&
    dependency.held !== "none" &&
    !dependency.isInvalidated
  ) {
    return heldValue(dependency);
  }
  const settled = () => {
    // The composite is made of the oldest value that it has seen; a stream's next value begins anew.
    if (read.version === notRead || read.readAt < request.startVersion) noteValueRead(read);
    read.readAt = dependency.shelf.core.version;
  };
  try {
    if (reader.failed.has(dependency)) throw reader.failed.get(dependency);
    return await whileWaiting(reader, dependency, () =>
      revalidateDependency(reader, dependency, askedVersion, mode, settled),
    );
  } catch (thrown) {
    const links = linksOf(entry);
    links.failedBy = dependency;
    if (thrown instanceof Failure) links.failuresOfDependencies.add(thrown);
    throw thrown;
  }
}

function noteRead(reader: Reader, dependency: Entry): Dependency {
  const { entry, dependencies, dependencyOf } = reader;
  const known = dependencyOf.get(dependency);
  if (known) return known;
  const read: Dependency = { entry: dependency, version: notRead, readAt: notRead, trustedAt: notRead, madeFor: [] };
  dependencyOf.set(dependency, read);
  dependencies.push(read);
  if (dependencies.length > mostStreamDependencies && entry.isOpen)
    forgetDependency(reader, mostStreamDependencies / 2);
  if (dependencies === linksOf(entry).dependenciesRead) linksOf(dependency).dependents.add(entry); // kept: nothing lets go of what is being read
  return read;
}

/** So many dependencies of an open stream are known: those that it read first, and those that it read last. */
const mostStreamDependencies = 200;

/** A stream that reads other dependencies with each event would keep all of them. */
function forgetDependency({ entry, dependencies, dependencyOf }: Reader, index: number): void {
  const [oldest] = dependencies.splice(index, 1);
  if (!oldest) return;
  dependencyOf.delete(oldest.entry);
  if (!entry.links?.dependencies.some((dependency) => dependency.entry === oldest.entry))
    releaseDependency(oldest.entry, entry);
}

/** Rule D3: a request by hand goes all the way down in the same mode, to each dependency once. */
function revalidateDependency(
  reader: Reader,
  dependency: Entry,
  askedVersion: number,
  mode: LoadMode,
  settled: () => void,
): Promise<unknown> {
  const { core } = dependency.shelf;
  const known =
    dependency.isFresh(nowOf(core)) &&
    (dependency.version >= askedVersion || (dependency.policy.immutable && mode !== "reload"));
  if (known || isTheCause(reader, dependency) || wasAskedForIt(reader, dependency)) {
    settled();
    return heldValue(dependency);
  }
  // The composite waits by the end of the batch. An effect of the dependency's load, such as a deletion, finds it waiting.
  return batch(core, () => {
    const before = dependency.request;
    const waiters = joinRequest(
      dependency,
      askedVersion > 0 ? "manual" : "dependency",
      askedVersion > 0 ? mode : undefined,
      askedVersion,
    );
    const { request } = dependency;
    if (request && request !== before) noteAsked(dependency, request, reader.wave); // before its load begins
    waiters.onSettled(settled); // the version of the value that comes, whatever happens before it is looked at
    waiters.count++;
    return untilAborted(dependency, waiters, waiters.value, signalOfWaits(reader));
  });
}

/**
 * Whether the value that a dependency has now is why the composite is loaded again: it is new enough, whatever its lifetime. Asked for
 * again it would be another, and two composites that share it would load each other for ever.
 */
function isTheCause({ madeOf }: Reader, dependency: Entry): boolean {
  const before = madeOf.get(dependency);
  const isAnother = before !== undefined && dependency.changedAt !== before && dependency.held !== "none";
  return isAnother && !isStaleThroughDependencies(dependency);
}

/**
 * Whether a dependency has been asked for since the change began that this load belongs to. Once is enough: two composites that share
 * dependencies without a lifetime would have each other loaded for ever.
 */
function wasAskedForIt({ isCaused, wave }: Reader, dependency: Entry): boolean {
  return (
    isCaused && dependency.held !== "none" && dependency.version >= wave && !isStaleThroughDependencies(dependency)
  );
}

/** Meanwhile its time-out stands still (rule D5), and a cycle would be seen (rule D4). */
async function whileWaiting<T>({ entry, request }: Reader, dependency: Entry, wait: () => Promise<T>): Promise<T> {
  const { awaited } = linksOf(entry);
  refuseCycle(entry, dependency);
  awaited.add(dependency);
  const resume = request.pauseTimeout();
  try {
    return await wait();
  } finally {
    awaited.delete(dependency);
    resume();
  }
}

/**
 * Rule D1: brings the dependencies of an entry that is stale only through them up to date, in the order in which they were read.
 * False at the first that is another than it was.
 */
async function areDependenciesUnchanged(reader: Reader): Promise<boolean> {
  const dependencies = reader.entry.links?.dependencies ?? [];
  for (const dependency of dependencies) {
    reader.current.throwIfAborted();
    if (dependency.entry.changedAt !== dependency.version) return false;
    // That it could not be had, or is missing, is a matter for the load.
    const settled = () => {
      dependency.readAt = dependency.entry.shelf.core.version;
      if (dependency.entry.changedAt === dependency.version) noteTrusted(dependency);
    };
    const noteFailure = (thrown: unknown) => void reader.failed.set(dependency.entry, thrown);
    const brought = () => revalidateDependency(reader, dependency.entry, 0, "default", settled).catch(noteFailure);
    await whileWaiting(reader, dependency.entry, brought);
    if (reader.failed.size > 0 || dependency.entry.changedAt !== dependency.version) return false;
  }
  return true; // what changed meanwhile is found when the answer is taken: see recheckDependencies
}

/**
 * Rule D4: a cycle of waits would have no end. A waiting entry has a smaller rank than the entries that it waits for. So only a
 * wait for an entry of a smaller rank can close a cycle, and is looked into. All entries that this one waits for, directly or
 * not, then get greater ranks than all others, in their order.
 */
function refuseCycle(dependent: Entry, dependency: Entry): void {
  const above = linksOf(dependent);
  const below = linksOf(dependency);
  const { core } = dependency.shelf;
  above.rank ||= ++core.rank;
  if (below.awaited.size === 0) below.rank = ++core.rank; // it waits for nothing
  if (below.rank > above.rank) return;
  const before = new Map<Entry, Entry | undefined>([[dependency, undefined]]);
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
      `A load reads what is made of itself: ${keys}. Read something else, or put the common dependency into a source of its own.`,
  );
}

function wayTo(end: Entry, before: ReadonlyMap<Entry, Entry | undefined>): Entry[] {
  const way: Entry[] = [];
  for (let entry: Entry | undefined = end; entry; entry = before.get(entry)) way.unshift(entry);
  return way;
}
