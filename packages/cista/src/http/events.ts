import { createParser, type EventSourceMessage, type EventSourceParser } from "eventsource-parser";
import { forBoth } from "../core/doors/tools.js";
import { type Answer, answer, Failure, type Known, type LoadContext, type Source } from "../core/index.js";
import { withoutQuery } from "./address.js";
import type { EventsDefinition, Origin } from "./contract.js";
import { refuseHeaderFunction, serverOf, sourceOf } from "./definition.js";
import { detailsOf } from "./details.js";
import { exchange } from "./exchange.js";
import { askOf } from "./load.js";
import { httpFailure } from "./problem.js";
import type { Exchange, Server } from "./server.js";

/**
 * Server-sent events (WHATWG HTML §9.2) of an origin as a live source: `reduce` folds each event into the value. Resumes by
 * Last-Event-ID, obeys `retry:`, and by default goes on trying for as long as it is watched.
 * @throws CistaError code "missing-url", "invalid-headers"
 * @example
 * const notices = eventsFrom(api, {
 *   name: "notices",
 *   url: "/api/notices",
 *   start: [] as string[],
 *   reduce: (all, { data }) => [...all, data],
 * });
 */
export function eventsFrom<P = void, T = unknown>(
  origin: Origin,
  definition: EventsDefinition<P, T>,
): Source<P, Known<T>> {
  const server = serverOf(origin);
  refuseHeaderFunction(definition);
  const goesOn = { retry: { times: Number.POSITIVE_INFINITY }, ...definition };
  return sourceOf(server, goesOn, { load: (params, context) => follow(server, definition, params, context) });
}

/**
 * A stream of server-sent events (WHATWG HTML §9.2) as answers: each is the value with the events of one chunk folded
 * into it. It goes on from the value that is held and the last event's id.
 * @throws Failure kind "network" where the connection ends, to be tried again; kind "http" where the server will have none
 */
async function* follow(
  server: Server,
  definition: EventsDefinition<any, any>,
  params: unknown,
  context: LoadContext,
): AsyncGenerator<Answer<unknown>, void, void> {
  const { held } = context;
  let value = held ? held.value : copied(definition.start);
  let lastEventId = held?.validator?.lastEventId;
  const { url, name, named } = askOf(server, definition, params);
  const fields = {
    accept: "text/event-stream",
    ...(lastEventId ? { "last-event-id": inUtf8(lastEventId) } : {}),
  };
  const received = await exchange(server, { url, name, named, fields }, { ...context, mode: "no-store" });
  const { response } = received;
  const varies = forBoth(held?.varies, received.varies); // the user may have changed before the request was made
  const details = () => ({
    ...detailsOf(received, definition),
    ...(varies ? { varies } : {}),
    ...(lastEventId ? { validator: { lastEventId } } : {}),
  });
  if (response.status === 204) return yield answer(value, details()); // that is all
  await refuseOther(received);
  yield answer(value, details()); // open: there is something to show before the first event
  const reader = new EventReader(withoutQuery(url), received.maxBody);
  for await (const text of textOf(response, context.signal)) {
    const events = reader.read(text);
    for (const { event = "message", data, id } of events) {
      if (id !== undefined && isEventId(id)) lastEventId = id;
      value = definition.reduce(value, { type: event, data, ...(id === undefined ? {} : { id }) });
    }
    if (events.length > 0) yield answer(value, details());
  }
  const { wait } = reader;
  const message = `The event stream from ${withoutQuery(url)} has ended.`;
  throw new Failure("network", message, wait === undefined ? {} : { retryAfter: wait });
}

/** @throws Failure that is not tried again: another status than 200, or another media type */
async function refuseOther(received: Exchange): Promise<void> {
  const { response, url } = received;
  if (response.status !== 200) throw notRetryable(await httpFailure(received));
  const type = response.headers.get("content-type") ?? "no content type";
  if (/^text\/event-stream\b/i.test(type)) return;
  await response.body?.cancel();
  const message = `An event stream was expected from ${withoutQuery(url)}, but ${type} came.`;
  throw notRetryable(new Failure("shape", message));
}

/** Events out of the text of one stream, as it comes in pieces. */
class EventReader {
  /** How long the server wants to be left alone before the stream is opened again, in milliseconds. */
  wait: number | undefined;
  readonly #url: string;
  readonly #maxBody: number;
  #events: EventSourceMessage[] = [];
  #isTooLong = false;
  readonly #parser: EventSourceParser;

  constructor(url: string, maxBody: number) {
    this.#url = url;
    this.#maxBody = maxBody;
    this.#parser = createParser({
      maxBufferSize: maxBody,
      onEvent: (event) => this.#events.push(event),
      onRetry: (milliseconds) => {
        this.wait = Math.max(milliseconds, shortestWait);
      },
      onError: ({ type }) => {
        this.#isTooLong ||= type === "max-buffer-size-exceeded";
      },
    });
  }

  /** @throws Failure kind "http" for an event that is longer than a body may be */
  read(text: string): EventSourceMessage[] {
    this.#events = [];
    this.#parser.feed(text);
    if (!this.#isTooLong) return this.#events;
    throw notRetryable(new Failure("http", `An event from ${this.#url} is longer than ${this.#maxBody} bytes.`));
  }
}

/** However little a server says, so long is waited before a stream is opened again, in milliseconds. */
const shortestWait = 250;

/** One value for each stream: a `reduce` that changes it in place changes no other stream's. */
function copied(start: unknown): unknown {
  try {
    return structuredClone(start);
  } catch {
    return start; // functions, for example: these are not data
  }
}

/** HTML §9.2.4: the id is sent as UTF-8; a header's text has a character for each byte. */
function inUtf8(id: string): string {
  return String.fromCharCode(...new TextEncoder().encode(id));
}

/** One that could not be sent as a header field is of no use to go on from. */
function isEventId(id: string): boolean {
  return id.length < 4096 && !/[\0\r\n]/.test(id);
}

/** A connection that breaks is one that ended. */
async function* textOf(response: Response, signal: AbortSignal): AsyncGenerator<string, void, void> {
  const reader = (response.body as ReadableStream<Uint8Array>).getReader();
  const decoder = new TextDecoder();
  try {
    for (let part = await reader.read(); !part.done; part = await reader.read()) {
      yield decoder.decode(part.value, { stream: true });
    }
  } catch (thrown) {
    if (signal.aborted) throw thrown;
  } finally {
    await reader.cancel().catch(() => {});
  }
}

/** Any other status or media type fails the connection for good. */
function notRetryable({ kind, message, status, problem }: Failure): Failure {
  return new Failure(kind, message, { retryable: false, status, problem });
}
