import { origin } from "cista/http";

export const base = "https://huts.example";
export const json = (value: unknown, headers: HeadersInit = {}, status = 200) =>
  new Response(JSON.stringify(value), { status, headers: { "content-type": "application/json", ...headers } });
export type Seen = { url: string; headers: Headers; init: RequestInit };
/** A server that answers as it is told, and writes down what it was asked. */
export function server(
  answer: (url: URL, init: RequestInit & { headers: Headers }) => Response | Promise<Response>,
  options: object = {},
  originOf = origin,
) {
  const seen: Seen[] = [];
  const fetch = async (given: any, init: any = {}) => {
    const headers = new Headers(init.headers);
    seen.push({ url: String(given), headers, init });
    return answer(new URL(given), { ...init, headers });
  };
  return { seen, api: originOf({ base, fetch: fetch as never, ...options }) };
}
export const hut = { name: "hut", url: ({ id }: any) => `/api/huts/${id}`, retry: false } as const;
export const id = { id: "h-07" };

export const fresh = { "cache-control": "private, max-age=600", etag: '"e"' };
/** Answers with the token or tenant that asked; a token "old" is refused. */
export const whoServer = (options: any, headers: any = fresh, vary?: string) =>
  server((_, init) => {
    const who = init.headers.get("authorization") ?? init.headers.get("x-tenant") ?? "nobody";
    if (who === "Bearer old") return new Response(null, { status: 401 });
    if (init.headers.get("if-none-match") === headers.etag) return new Response(null, { status: 304, headers });
    return json(who, vary ? { ...headers, vary } : headers);
  }, options);
