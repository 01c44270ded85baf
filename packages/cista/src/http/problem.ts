import { Failure, type Problem } from "../core/index.js";
import { withoutQuery } from "./address.js";
import { bodyText, tidy } from "./body.js";
import { deltaSeconds } from "./cache-control.js";
import type { Exchange } from "./exchange.js";
import { httpDate } from "./http-date.js";

/** A response that is an error, as a Failure of kind "http" with its status and, where it has one, its problem (RFC 9457). */
export async function httpFailure(exchange: Exchange): Promise<Failure> {
  const { response, url } = exchange;
  const problem = await problemOf(exchange);
  const said = tidy(problem?.title ?? response.statusText);
  const message = `${withoutQuery(url)} answered ${response.status}${said ? ` (${said})` : ""}${problem?.detail ? `: ${tidy(problem.detail)}` : "."}`;
  const retryAfter = retryAfterOf(exchange);
  return new Failure("http", message, { status: response.status, problem, retryAfter });
}

async function problemOf(exchange: Exchange): Promise<Problem | undefined> {
  const { response } = exchange;
  if (!/^application\/problem\+json\b/i.test(response.headers.get("content-type") ?? "")) {
    await response.body?.cancel();
    return undefined;
  }
  try {
    const body: unknown = JSON.parse(await bodyText(exchange));
    return typeof body === "object" && body !== null && !Array.isArray(body) ? wellTyped(body as Problem) : undefined;
  } catch {
    return undefined; // a broken problem body is no reason to hide the status
  }
}

/** RFC 9457 §3.1: a member of the wrong type is ignored. */
function wellTyped(body: Problem): Problem {
  const kinds = { type: "string", title: "string", status: "number", detail: "string", instance: "string" } as const;
  const wrong = Object.entries(kinds).filter(([name, kind]) => name in body && typeof body[name] !== kind);
  return Object.fromEntries(Object.entries(body).filter(([name]) => !wrong.some(([bad]) => bad === name)));
}

/** RFC 9110 §10.2.3: seconds, or an HTTP-date, by the server's clock where it tells that; in milliseconds. */
function retryAfterOf({ response: { headers }, receivedAt }: Exchange): number | undefined {
  const field = headers.get("retry-after")?.trim();
  const seconds = deltaSeconds(field);
  if (seconds !== undefined) return seconds * 1000;
  const at = httpDate(field);
  return at === undefined ? undefined : Math.max(0, at - (httpDate(headers.get("date")) ?? receivedAt));
}
