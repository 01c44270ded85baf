/** A page that is rendered with a cache of its own, and the values that are sent with it. Rules H1 to H8, H11. */

import { clockOf, partitionOf } from "../core/doors/caches.js";
import { emptyReadingOf, pageClass, type Rendering, renderingOf, setRendering } from "../core/doors/page.js";
import { type AnyReading, readingWith } from "../core/doors/readings.js";
import { type StoredEntry, storedUnder } from "../core/doors/sharing.js";
import { isJson, jsonOf, milliseconds, omitUndefined } from "../core/doors/tools.js";
import {
  type ArgumentsOf,
  type Cache,
  type Duration,
  Failure,
  jsonForScript,
  type Reading,
  type Source,
  type View,
} from "../core/index.js";
import { betweenBursts, type NodeWritable, throughBursts } from "./streams.js";

export interface PageOptions {
  /** How long the page waits for values, from now; later values are left to the browser. Default "5s". */
  timeout?: Duration;
  /**
   * The page itself is sent with `Cache-Control: no-store` (RFC 9111 §5.2.2.5): then `noStore` values are shown and sent too.
   * Default false: they are left to the browser.
   */
  noStore?: boolean;
  /**
   * The page will be served again, from a file or a cache, to anybody: its values are then as old as the clocks say, and
   * those that are for one user only are left to the browser. Default false: it is made for one visit, and is no older than that.
   */
  reusable?: boolean;
}

/** One page, while it is rendered. */
export interface ServerPage {
  /** Puts new values between the bursts that a renderer writes: for a response of Node. */
  into<W extends NodeWritable>(response: W): W;
  /** The same for a web stream. */
  through(html: ReadableStream<Uint8Array>): ReadableStream<Uint8Array>;
  /** The values that have come since the last call, as HTML that may stand between any two elements; "" for nothing new. */
  html(): string;
  /**
   * The same without the element, as JSON that may stand in one: for frameworks that make elements themselves, or that hand
   * data over to the browser in a way of their own (`receivePage(cache, snapshot)` takes it there). "" for nothing new.
   */
  json(): string;
  /**
   * Brings one value onto the page before the components are rendered: for loaders, and for renderers that cannot wait.
   * Never rejects: a failed entry is `loading`, and left to the browser.
   */
  show<P, T>(source: Source<P, T>, ...params: ArgumentsOf<NoInfer<P>>): Promise<Reading<T>>;
  /** The entries that are not on the page, by key, with the reason. For the server's log: nothing of it is sent. */
  readonly left: ReadonlyMap<string, Failure>;
  /**
   * For the page's own Cache-Control: how long all that is shown stays fresh, in milliseconds; whether any of it is `noStore`, or
   * for one user only (`private`), so that no cache may give the page to another.
   */
  freshness(): { readonly maxAge: number; readonly noStore: boolean; readonly private: boolean };
  /** The same as the text of a Cache-Control field (RFC 9111 §5.2.2), such as "private, max-age=59". */
  cacheControl(): string;
  /** Ends every wait and request, and disposes of the cache. To be called when the response has ended, however it did. */
  close(): void;
}

/**
 * Opens the page that is about to be rendered with a cache of its own: one for each request. Bindings wait for its values
 * while they render, and its values are sent along, for `receivePage` of `cista/browser`.
 * @throws CistaError code "invalid-duration"
 * @example
 * const cache = createCache({ context: request });
 * const page = openPage(cache);
 * const { pipe } = renderToPipeableStream(<App cache={cache} />, { onShellReady: () => pipe(page.into(response)) });
 * response.on("close", page.close);
 */
export function openPage(cache: Cache, options: PageOptions = {}): ServerPage {
  const page = new RenderedPage(cache, options);
  return {
    into: (response) => betweenBursts(response, () => page.html()),
    through: (html) =>
      throughBursts(
        html,
        () => page.html(),
        () => page.close(),
      ),
    html: () => page.html(),
    json: () => page.json(),
    show: (source: Source<any, any>, ...[params]: [params?: any]) => page.show(source, params),
    left: page.left,
    freshness: () => page.freshness(),
    cacheControl: () => page.cacheControl(),
    close: () => page.close(),
  };
}

/** A wait for an entry to be shown. */
class Wait {
  /** Resolves when it is shown, or left to the browser. */
  readonly promise: Promise<void>;
  readonly view: View<any>;
  readonly source: Source<any, any>;
  readonly #settle: (wait: Wait, reading: Reading<any> | undefined) => void;
  #resolve = (): void => {};
  #isOver = false;

  /** @param settle is called once: with the reading to be shown, or without one where none came in time */
  constructor(
    view: View<any>,
    source: Source<any, any>,
    settle: (wait: Wait, reading: Reading<any> | undefined) => void,
  ) {
    this.view = view;
    this.source = source;
    this.#settle = settle;
    this.promise = new Promise<void>((resolve) => {
      this.#resolve = resolve;
    });
  }

  /** From now on it is watched, until the page's cache ends. */
  begin(): void {
    this.view.subscribe(() => this.#look());
    this.#look();
  }

  /** Gives it up. */
  end(): void {
    this.#take(undefined);
  }

  #look(): void {
    const reading = this.view.get();
    if (reading.state !== "loading" && reading.state !== "empty") this.#take(reading);
    else if (reading.request === "waiting") this.#take(undefined); // for a pause: nobody asks now
  }

  #take(reading: Reading<any> | undefined): void {
    if (this.#isOver) return;
    this.#isOver = true;
    this.#settle(this, reading);
    this.#resolve();
  }
}

interface Unsent {
  readonly entry: StoredEntry;
  readonly shownAt: number;
}

class RenderedPage implements Rendering {
  readonly onServer = true;
  readonly left: Map<string, Failure> = new Map();
  readonly #cache: Cache;
  readonly #noStore: boolean;
  readonly #reusable: boolean;
  /** Rule H1: the reading that was first shown of an entry is sent, whatever happens since. */
  readonly #shown = new Map<string, Reading<any>>();
  readonly #waits = new Map<string, Wait>();
  readonly #timer: unknown;
  /** The entries that have been shown and not been sent. */
  #unsent: Unsent[] = [];
  #hasSent = false;
  /** By the cache's clock: when the first of the shown values is no longer fresh. */
  #freshUntil = Number.POSITIVE_INFINITY;
  #holdsNoStore = false;
  #holdsPrivate = false;
  /** Why nothing more is waited for: made when a component waited, since it costs as much as a small page. */
  #over: (() => Failure) | undefined;
  #isClosed = false;

  constructor(cache: Cache, { timeout = "5s", noStore = false, reusable = false }: PageOptions) {
    const delay = milliseconds(timeout, "timeout");
    if (DEVELOPMENT && renderingOf(cache)) console.warn(sharedByTwo);
    this.#cache = cache;
    this.#noStore = noStore;
    this.#reusable = reusable;
    const late = () =>
      this.#giveUp(
        () => new Failure("timeout", `The page has waited ${delay} ms: what has not come is left to the browser.`),
      );
    this.#timer = clockOf(cache).setTimer(late, delay, true);
    setRendering(cache, this);
  }

  of(view: View<any>, source: Source<any, any>, asks: boolean, onServer = true): Reading<any> | Promise<void> {
    if (!asks) return emptyReadingOf(view); // rule H7
    const { key } = view;
    const known = this.#shown.get(key) ?? this.#waits.get(key)?.promise;
    if (known) return known;
    if (!onServer) return this.#leave(view, notOnServer(key), false);
    if (this.#over) return this.#leave(view, this.#over());
    if (source.definition.noStore && !this.#noStore) return this.#leave(view, notForThisPage(key), false);
    this.#wait(view, source);
    return this.#shown.get(key) ?? (this.#waits.get(key) as Wait).promise;
  }

  peek(view: View<any>, source: Source<any, any>, asks: boolean, onServer = true): Reading<any> | undefined {
    if (!asks) return emptyReadingOf(view);
    const left = onServer ? undefined : this.of(view, source, asks, onServer);
    return left && "state" in left ? left : this.#shown.get(view.key);
  }

  /** Shows the entry when its value has come. A fresh value is shown at once: no request would be made for it. */
  #wait(view: View<any>, source: Source<any, any>): void {
    const reading = view.get();
    if (reading.fresh && reading.request === "none") {
      this.#show(view, source, reading);
      return;
    }
    const wait = new Wait(view, source, this.#settle);
    this.#waits.set(view.key, wait);
    wait.begin();
  }

  readonly #settle = (wait: Wait, reading: Reading<any> | undefined): void => {
    this.#waits.delete(wait.view.key);
    if (reading) this.#show(wait.view, wait.source, reading);
    else this.#leave(wait.view, wait.view.get().failure ?? this.#over?.() ?? heldBack(wait.view.key));
  };

  #show(view: View<any>, source: Source<any, any>, reading: Reading<any>): void {
    const { key, state, failure } = reading;
    // Rule H4: on a server nothing is failed; the browser asks for it itself, and tells its own failure.
    if (state !== "ready" && state !== "missing") {
      this.#leave(view, failure ?? this.#over?.() ?? new Failure("aborted", "Nothing came."));
      return;
    }
    const entry = storedUnder(this.#cache, key, true);
    if (!entry || (entry.noStore && !this.#noStore)) {
      this.#leave(view, notForThisPage(key), false);
      return;
    }
    if (state === "ready" && !isSendable(entry.value, source)) {
      this.#leave(view, notJson(key), false);
      return;
    }
    const isPrivate =
      partitionOf(this.#cache) !== undefined || entry.varies !== undefined || entry.madeFor !== undefined;
    if (isPrivate && this.#reusable) {
      this.#leave(view, notForOthers(key), false);
      return;
    }
    const takenAt = clockOf(this.#cache).now();
    this.#shown.set(key, asSent(reading as AnyReading, takenAt - entry.age) as Reading<any>);
    this.#holdsNoStore ||= entry.noStore ?? false;
    this.#holdsPrivate ||= isPrivate;
    const lifetime = entry.noStore ? 0 : (entry.maxAge ?? Number.POSITIVE_INFINITY) - entry.age;
    this.#freshUntil = Math.min(this.#freshUntil, takenAt + lifetime);
    this.#unsent.push({ entry: forItsVisitor(entry), shownAt: takenAt });
  }

  /** @param isLacking the page would have it another time: then it is not to be kept as it is */
  #leave(view: View<any>, why: Failure, isLacking = true): Reading<any> {
    const none = emptyReadingOf(view) as AnyReading;
    const reading = readingWith(none, { state: "loading", request: "running" }) as Reading<any>;
    this.#shown.set(view.key, reading);
    this.left.set(view.key, why);
    if (isLacking) this.#freshUntil = 0;
    return reading;
  }

  async show(source: Source<any, any>, params: unknown): Promise<Reading<any>> {
    const view = this.#cache.view(source, params);
    const known = this.of(view, source, true);
    if (!(known instanceof Promise)) return known;
    await known;
    return this.#shown.get(view.key) as Reading<any>;
  }

  html(): string {
    const text = this.json();
    return text && `<script type="application/json" class="${pageClass}">${text}</script>`;
  }

  json(): string {
    if (this.#unsent.length === 0 && this.#hasSent) return "";
    this.#hasSent = true;
    const takenAt = clockOf(this.#cache).now();
    const coming = [...this.#waits.keys()];
    return jsonForScript(
      omitUndefined({
        format: "cista-snapshot",
        version: 1,
        takenAt,
        partition: partitionOf(this.#cache),
        live: this.#reusable ? undefined : true,
        coming: coming.length > 0 ? coming : undefined,
        entries: this.#unsent.splice(0).map((unsent) => agedUntil(takenAt, unsent)),
      }),
    );
  }

  freshness(): { maxAge: number; noStore: boolean; private: boolean } {
    const maxAge = Math.max(0, this.#freshUntil - clockOf(this.#cache).now());
    return { maxAge, noStore: this.#holdsNoStore, private: this.#holdsPrivate };
  }

  cacheControl(): string {
    const { maxAge, noStore, private: isPrivate } = this.freshness();
    if (noStore || this.#noStore) return "no-store";
    const seconds = Math.min(Math.floor(maxAge / 1000), longestAge);
    return `${isPrivate ? "private, " : ""}${seconds > 0 ? `max-age=${seconds}` : "no-cache"}`;
  }

  /** Rule H8. */
  close(): void {
    if (this.#isClosed) return;
    this.#isClosed = true;
    clockOf(this.#cache).clearTimer(this.#timer);
    this.#giveUp(() => new Failure("aborted", "The page was closed: nobody waits for it any more."));
    setRendering(this.#cache, undefined);
    this.#cache.dispose();
  }

  #giveUp(why: () => Failure): void {
    this.#over ??= why;
    for (const wait of [...this.#waits.values()]) wait.end();
  }
}

/** The reading that the browser makes of what is sent: one of a held value, for which nobody asks. Most readings are that already. */
function asSent(reading: AnyReading, asOf: number): AnyReading {
  const pendingWrites = reading.state === "ready" ? 0 : undefined;
  const isAlike = reading.request === "none" && !reading.failure && reading.pendingWrites === pendingWrites;
  if (isAlike && reading.asOf === asOf) return reading;
  return readingWith(reading, { request: "none", failure: undefined, asOf, pendingWrites });
}

/** Of the server's own requests a page tells nothing but that the answers are for the user who opens it (rules F9, H5). */
function forItsVisitor(entry: StoredEntry): StoredEntry {
  const { varies, madeFor } = entry;
  if (!varies && !madeFor) return entry;
  return {
    ...entry,
    ...(varies ? { varies: forVisitor(varies) } : {}),
    ...(madeFor ? { madeFor: madeFor.map((part) => ({ ...part, varies: forVisitor(part.varies) })) } : {}),
  };
}

function forVisitor(varies: Readonly<Record<string, string>>): Record<string, string> {
  return Object.fromEntries(Object.entries(varies).map(([field, text]) => [field, text && "*"]));
}

/** It was shown before the reading that is shown with it. */
function agedUntil(takenAt: number, { entry, shownAt }: Unsent): StoredEntry {
  const since = Math.max(0, takenAt - shownAt);
  return since > 0 ? Object.assign(entry, { age: entry.age + since, shownAt }) : entry;
}

const sharedByTwo =
  "Cista: openPage(cache) was called while another page is rendered with the same cache: what one visitor may see could be sent to the other. Make a cache for each request, and hand the request over as createCache({ context }).";

/** RFC 9111 §1.2.2: caches need not count further. Seconds. */
const longestAge = 2 ** 31;

function heldBack(key: string): Failure {
  return new Failure("aborted", `The request of ${key} is held back by its requestBudget: it is left to the browser.`);
}

function notOnServer(key: string): Failure {
  return new Failure("load", `${key} is not asked for on the server (onServer: false): it is left to the browser.`);
}

/**
 * Whether the browser gets the same value out of JSON: as it is, or by the source's check, which is run there again (rule S1).
 * @param value of a snapshot: it does not contain itself
 */
function isSendable(value: unknown, { definition }: Source<any, any>): boolean {
  return isJson(value, true) || (definition.check !== undefined && jsonOf(value) !== undefined);
}

function notJson(key: string): Failure {
  return new Failure("load", `${key} is no value of JSON, such as a Map or a Date: it is left to the browser.`);
}

function notForOthers(key: string): Failure {
  return new Failure("load", `${key} is for one user only, and the page is for all: it is left to the browser.`);
}

function notForThisPage(key: string): Failure {
  return new Failure("load", `${key} is noStore, and the page is not: it is left to the browser.`);
}
