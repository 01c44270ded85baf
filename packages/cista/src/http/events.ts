import { createParser, type EventSourceMessage } from "eventsource-parser";
import { type Answer, answer, Failure, type LoadContext } from "../core/index.js";
import { place } from "./address.js";
import type { EventsDefinition } from "./contract.js";
import { detailsOf } from "./details.js";
import { exchange, type Server } from "./exchange.js";
import { urlFor } from "./load.js";
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
  let value = held ? held.value : definition.start;
  let lastEventId = held?.validator?.lastEventId;
  const url = urlFor(server, definition, params);
  const headers = {
    accept: "text/event-stream",
    ...(lastEventId ? { "last-event-id": lastEventId } : {}),
  };
  const asked = await exchange(server, { url, headers }, { signal: context.signal, mode: "no-store" });
  const { response } = asked;
  const details = () => ({ ...detailsOf(asked, definition), ...(lastEventId ? { validator: { lastEventId } } : {}) });
  if (response.status === 204) return yield answer(value, details()); // that is all
  const type = response.headers.get("content-type") ?? "no content type";
  if (response.status !== 200) throw final(await httpFailure(asked));
  if (!/^text\/event-stream\b/i.test(type)) {
    await response.body?.cancel();
    throw final(new Failure("shape", `An event stream was expected from ${place(url)}, but ${type} came.`));
  }
  yield answer(value, details()); // open: there is something to show before the first event

  let wait: number | undefined;
  let events: EventSourceMessage[] = [];
  const parser = createParser({
    onEvent: (event) => events.push(event),
    onRetry: (milliseconds) => {
      wait = milliseconds;
    },
  });
  for await (const text of textOf(response, context.signal)) {
    parser.feed(text);
    for (const { event = "message", data, id } of events) {
      lastEventId = id ?? lastEventId;
      value = definition.reduce(value, { type: event, data, ...(id === undefined ? {} : { id }) });
    }
    if (events.length > 0) yield answer(value, details());
    events = [];
  }
  throw new Failure(
    "network",
    `The event stream from ${place(url)} has ended.`,
    wait === undefined ? {} : { retryAfter: wait },
  );
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
function final({ kind, message, status, problem }: Failure): Failure {
  return new Failure(kind, message, { retryable: false, status, problem });
}
