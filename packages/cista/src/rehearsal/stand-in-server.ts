/** What a route is given: the `:name` parts of its path, decoded; the URL; the request itself. */
export interface StandInRequest {
  readonly params: Readonly<Record<string, string>>;
  readonly url: URL;
  readonly request: Request;
}

/**
 * What a route answers: a value, as JSON with status 200; a `Response`; a function that returns either, or a promise of it. A
 * function that throws is a network that fails.
 */
export type StandInAnswer = object | string | number | boolean | null | ((request: StandInRequest) => unknown);

/** A server for tests: it answers by routes, and counts. */
export interface StandInServer {
  /** In place of the platform's: `origin({ fetch: server.fetch })`, or `vi.stubGlobal("fetch", server.fetch)`. */
  readonly fetch: typeof globalThis.fetch;
  /** What was asked, in order: "GET /api/huts/h-07?night=2026-12-06". Set its length to 0 to count from there. */
  readonly asked: string[];
  /** The requests themselves, with headers and bodies. */
  readonly requests: Request[];
  /** Another answer from now on. */
  answer(route: string, answer: StandInAnswer): void;
}

/**
 * A server for tests. A route is a method and a path, "PUT /api/huts/:id"; a path alone is of GET. What has no route is answered
 * by 404 with the routes that there are.
 * @example
 * const server = standInServer({ "/api/huts/:id": ({ params }) => ({ id: params.id, name: "Harebell Hut" }) });
 * const api = origin({ base: "https://huts.example", fetch: server.fetch });
 */
export function standInServer(routes: Record<string, StandInAnswer>): StandInServer {
  const answers = new Map(Object.entries(routes));
  const asked: string[] = [];
  const requests: Request[] = [];
  const fetch: StandInServer["fetch"] = async (input, init) => {
    const request = new Request(input instanceof Request ? input : new URL(input, pageUrl()), init);
    request.signal.throwIfAborted();
    const url = new URL(request.url);
    asked.push(`${request.method} ${url.pathname}${url.search}`);
    requests.push(request.clone());
    for (const [route, answer] of answers) {
      const params = paramsOf(route, request.method, url.pathname);
      if (!params) continue;
      const given = await untilAborted(request.signal, answered(answer, { params, url, request }));
      return given instanceof Response ? given.clone() : Response.json(given);
    }
    return noRoute(request.method, url, [...answers.keys()]);
  };
  return { fetch, asked, requests, answer: (route, answer) => void answers.set(route, answer) };
}

const pageUrl = () => (globalThis as { location?: { href: string } }).location?.href ?? "http://localhost/";

async function answered(answer: StandInAnswer, request: StandInRequest): Promise<unknown> {
  return typeof answer === "function" ? answer(request) : answer;
}

/** As `fetch` does: who aborts need not wait. */
async function untilAborted<T>(signal: AbortSignal, work: Promise<T>): Promise<T> {
  const aborted = new Promise<never>((_, reject) => {
    signal.addEventListener("abort", () => reject(signal.reason), { once: true });
  });
  return Promise.race([work, aborted]);
}

/** The parts of a path that a route names; none where it is another route's. */
function paramsOf(route: string, method: string, pathname: string): Record<string, string> | undefined {
  const [path = "", its = "GET"] = route.split(" ").reverse();
  const [parts, given] = [path.split("/"), pathname.split("/")];
  if (its !== method || parts.length !== given.length) return undefined;
  const params: Record<string, string> = {};
  for (const [at, part] of parts.entries()) {
    const text = given[at] as string;
    if (part.startsWith(":")) params[part.slice(1)] = decodeURIComponent(text);
    else if (part !== text) return undefined;
  }
  return params;
}

function noRoute(method: string, { pathname }: URL, routes: readonly string[]): Response {
  const detail = `The stand-in server has no route for ${method} ${pathname}. Its routes: ${routes.join(", ") || "none"}.`;
  return Response.json(
    { title: "No route", detail },
    { status: 404, headers: { "content-type": "application/problem+json" } },
  );
}
