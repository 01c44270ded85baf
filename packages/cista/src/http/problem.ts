import { Failure, type Problem } from "../core/index.js";
import { withoutQuery } from "./address.js";
import { bodyText, tidy } from "./body.js";
import { deltaSeconds } from "./cache-control.js";
import { httpDate } from "./http-date.js";
import type { Exchange } from "./server.js";

/** So many bytes of an error's JSON are read: it is for a form, or for a person (docs/limits.md). */
const mostBytes = 64 * 1024;

/** A response that is an error, as a Failure of kind "http" with its status and, where it has one, its problem (RFC 9457), else its JSON. */
export async function httpFailure(exchange: Exchange): Promise<Failure> {
  const { response, url } = exchange;
  const { problem, body } = await toldBy(exchange);
  const said = tidy(problem?.title ?? response.statusText);
  const message = `${withoutQuery(url)} answered ${response.status}${said ? ` (${said})` : ""}${problem?.detail ? `: ${tidy(problem.detail)}` : "."}`;
  const retryAfter = retryAfterOf(exchange);
  return new Failure("http", message, { status: response.status, problem, body, retryAfter });
}

async function toldBy(exchange: Exchange): Promise<{ problem?: Problem; body?: unknown }> {
  const { response, maxBody } = exchange;
  const type = response.headers.get("content-type") ?? "";
  const isProblem = /^application\/problem\+json\b/i.test(type);
  if (!isProblem && !/^application\/(?:[\w.-]+\+)?json\b/i.test(type)) {
    await response.body?.cancel();
    return {};
  }
  try {
    const most = isProblem ? maxBody : Math.min(maxBody, mostBytes);
    const body: unknown = JSON.parse(await bodyText({ ...exchange, maxBody: most }));
    if (!isProblem) return { body };
    return typeof body === "object" && body !== null && !Array.isArray(body)
      ? { problem: wellTyped(body as Problem) }
      : {};
  } catch {
    return {}; // a broken body is no reason to hide the status
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
