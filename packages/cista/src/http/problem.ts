import { Failure, type Problem } from "../core/index.js";
import { bodyText, place } from "./body.js";

/** A response that is an error, as a Failure of kind "http" with its status and, where it has one, its problem (RFC 9457). */
export async function httpFailure(response: Response, maxBody: number): Promise<Failure> {
  const problem = await problemOf(response, maxBody);
  const said = problem?.title ?? response.statusText;
  const message = `${place(response)} answered ${response.status}${said ? ` (${said})` : ""}${problem?.detail ? `: ${problem.detail}` : "."}`;
  const retryAfter = retryAfterOf(response.headers);
  return new Failure("http", message, {
    status: response.status,
    ...(problem ? { problem } : {}),
    ...(retryAfter === undefined ? {} : { retryAfter }),
  });
}

async function problemOf(response: Response, maxBody: number): Promise<Problem | undefined> {
  if (!/^application\/problem\+json\b/i.test(response.headers.get("content-type") ?? "")) {
    await response.body?.cancel();
    return undefined;
  }
  try {
    const body: unknown = JSON.parse(await bodyText(response, maxBody));
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

/** RFC 9110 §10.2.3: seconds, or an HTTP-date; in milliseconds from now. */
function retryAfterOf(headers: Headers): number | undefined {
  const field = headers.get("retry-after")?.trim();
  if (!field) return undefined;
  if (/^\d+$/.test(field)) return Number(field) * 1000;
  const at = Date.parse(field);
  return Number.isNaN(at) ? undefined : Math.max(0, at - Date.now());
}
