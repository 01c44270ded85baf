/** A kept write as it is stored, and where. See docs/outbox-format.md. Rules O1, S1. */
import { type DBSchema, type IDBPDatabase, openDB } from "idb";
import { isToldKind } from "../../core/doors/answers.js";
import { omitUndefined } from "../../core/doors/tools.js";
import { CistaError, Failure, type FailureKind, type Problem } from "../../core/index.js";

/** Of the record's form. */
export const recordVersion = 1;

export interface StoredFailure {
  readonly kind: FailureKind;
  readonly message: string;
  readonly status?: number;
  /** The server's own words (RFC 9457), without members of its own making. */
  readonly problem?: Problem;
}

export interface KeptRecord {
  readonly v: typeof recordVersion;
  /** Its Idempotency-Key. */
  readonly id: string;
  /** The write's name. */
  readonly write: string;
  readonly input: unknown;
  /** When it was run: milliseconds since the Unix epoch. */
  readonly at: number;
  /** Goes up with each that is run, in all tabs. */
  readonly order: number;
  /** How many sign-outs there had been when it was run. */
  readonly era: number;
  /** The user who ran it, where the write has a `user`; null: no user was signed in. */
  readonly user?: string | null;
  /** It was refused. */
  readonly failure?: StoredFailure;
}

/** Where kept writes are stored. Default: IndexedDB. Whatever is read is checked. */
export interface OutboxBackend {
  readAll(): Promise<readonly unknown[]>;
  /** One record, or undefined where it is not there any more. */
  get(id: string): Promise<unknown>;
  /** Resolves when it is stored for good. */
  put(record: KeptRecord): Promise<void>;
  delete(id: string): Promise<void>;
  clear(): Promise<void>;
  close(): void;
}

interface Schema extends DBSchema {
  writes: { key: string; value: KeptRecord };
}

/**
 * Opens the database of the kept writes. It is opened again after it was deleted, or the browser has taken it away.
 * @throws the browser's error
 */
export async function openRecords(name: string): Promise<OutboxBackend> {
  let opened: Promise<IDBPDatabase<Schema>> | undefined;
  const forget = () => {
    opened = undefined;
  };
  const open = () => {
    const opening = openDB<Schema>(name, 1, {
      upgrade: (created) => void created.createObjectStore("writes", { keyPath: "id" }),
      blocking(_, __, event) {
        (event.target as IDBDatabase).close();
        forget();
      },
      terminated: forget,
    });
    opening.catch(forget); // the next write tries again
    return opening;
  };
  const database = () => {
    opened ??= open();
    return opened;
  };
  await database();
  return {
    readAll: async () => (await database()).getAll("writes"),
    get: async (id) => (await database()).get("writes", id),
    async put(record) {
      // Stored before it is sent: "strict" comes back when it is on the disk.
      const transaction = (await database()).transaction("writes", "readwrite", { durability: "strict" });
      await Promise.all([transaction.store.put(record), transaction.done]);
    },
    delete: async (id) => (await database()).delete("writes", id),
    clear: async () => (await database()).clear("writes"),
    close: () => void opened?.then((last) => last.close()),
  };
}

const isText = (value: unknown): value is string => typeof value === "string";
const isNumber = (value: unknown): value is number => typeof value === "number" && Number.isFinite(value);
export function wellFormedFailure(value: unknown): StoredFailure | undefined {
  if (typeof value !== "object" || value === null) return undefined;
  const { kind, message, status, problem } = value as Record<string, any>;
  if (!isToldKind(kind, "byOutbox") || !isText(message) || (status !== undefined && !Number.isSafeInteger(status)))
    return undefined;
  return omitUndefined({ kind, message, status, problem: plainProblem(problem) }) as StoredFailure;
}

/** The record's own members, if each is of the right form. */
export function wellFormedRecord(value: unknown): KeptRecord | undefined {
  if (typeof value !== "object" || value === null || Array.isArray(value)) return undefined;
  const { v, id, write, input, at, order, era, user, failure } = value as Record<string, any>;
  const isGood = v === recordVersion && isText(id) && id !== "" && isText(write) && [at, order, era].every(isNumber);
  if (!isGood || (user !== undefined && user !== null && !isText(user))) return undefined;
  const told = failure === undefined ? undefined : wellFormedFailure(failure);
  if (failure !== undefined && !told) return undefined;
  return omitUndefined({ v, id, write, input, at, order, era, user, failure: told }) as KeptRecord;
}

export function storedFailure({ kind, message, status, problem }: Failure): StoredFailure {
  return omitUndefined({ kind, message, status, problem: plainProblem(problem) }) as StoredFailure;
}

function plainProblem(problem: unknown): Problem | undefined {
  if (typeof problem !== "object" || problem === null) return undefined;
  const { type, title, detail, instance, status } = problem as Record<string, unknown>;
  const texts = Object.entries({ type, title, detail, instance }).filter(([, member]) => isText(member));
  return { ...Object.fromEntries(texts), ...(isNumber(status) ? { status } : {}) };
}

export function failureOf({ kind, message, status, problem }: StoredFailure): Failure {
  return new Failure(kind, message, { status, problem });
}

/** Rule O7: before anything is shown of it. */
export function cloned(name: string, input: unknown): unknown {
  try {
    return structuredClone(input);
  } catch (thrown) {
    throw new CistaError(
      "invalid-write-input",
      DEVELOPMENT &&
        `The input of "${name}" cannot be kept: ${(thrown as Error).message} Give it data only; of a framework's proxy, a plain copy.`,
    );
  }
}
