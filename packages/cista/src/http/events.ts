import { createParser, type EventSourceMessage } from "eventsource-parser";
import { type Answer, answer, Failure, type LoadContext } from "../core/index.js";
import { withoutQuery } from "./address.js";
import type { EventsDefinition } from "./contract.js";
import { detailsOf } from "./details.js";
import { exchange, type Server } from "./exchange.js";
import { askOf } from "./load.js";
import { httpFailure } from "./problem.js";

/**
 * A stream of server-sent events (WHATWG HTML §9.2) as answers: each is the value with the events of one chunk folded
 * into it. It goes on from the value that is held and the last event's id.
 * @throws Failure kind "network" where the connection ends, to be tried again; kind "http" where the server will have none
 */
export async function* follow(
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
  const { signal, context: given } = context;
  const received = await exchange(server, { url, name, named, fields }, { signal, context: given, mode: "no-store" });
  const { response } = received;
  const details = () => ({
    ...detailsOf(received, definition),
    ...(lastEventId ? { validator: { lastEventId } } : {}),
  });
  if (response.status === 204) return yield answer(value, details()); // that is all
  const type = response.headers.get("content-type") ?? "no content type";
  if (response.status !== 200) throw notRetryable(await httpFailure(received));
  if (!/^text\/event-stream\b/i.test(type)) {
    await response.body?.cancel();
    throw notRetryable(
      new Failure("shape", `An event stream was expected from ${withoutQuery(url)}, but ${type} came.`),
    );
  }
  yield answer(value, details()); // open: there is something to show before the first event

  let wait: number | undefined;
  let events: EventSourceMessage[] = [];
  let broken: unknown;
  const parser = createParser({
    maxBufferSize: received.maxBody,
    onEvent: (event) => events.push(event),
    onRetry: (milliseconds) => {
      wait = Math.max(milliseconds, shortestWait);
    },
    onError: (error) => {
      if (error.type === "max-buffer-size-exceeded") broken = error;
    },
  });
  for await (const text of textOf(response, context.signal)) {
    parser.feed(text);
    if (broken) {
      throw notRetryable(
        new Failure("http", `An event from ${withoutQuery(url)} is longer than ${received.maxBody} bytes.`),
      );
    }
    for (const { event = "message", data, id } of events) {
      if (id !== undefined && isEventId(id)) lastEventId = id;
      value = definition.reduce(value, { type: event, data, ...(id === undefined ? {} : { id }) });
    }
    if (events.length > 0) yield answer(value, details());
    events = [];
  }
  throw new Failure(
    "network",
    `The event stream from ${withoutQuery(url)} has ended.`,
    wait === undefined ? {} : { retryAfter: wait },
  );
}

/** However little a server says, so long is waited before a stream is opened again, in milliseconds. */
const shortestWait = 250;

/** One value for each stream: a `reduce` that changes it in place changes nobody else's. */
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
