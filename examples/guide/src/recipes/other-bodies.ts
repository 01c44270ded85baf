import { source } from "cista";
import { answerOf, origin, path, withQuery } from "cista/http";

const api = origin({ base: "https://huts.example" });

// Text, or bytes: parse makes the body of the response, unwrap the value of that.
export const story = api.source({
  name: "story",
  url: ({ id }: { id: string }) => path`/api/huts/${id}/story`,
  parse: (response) => response.text(),
});

// A search that does not fit into a URL is a read by POST, or by QUERY: what it sends is its params.
export const found = api.source<{ near: [number, number]; open: boolean }, string[]>({
  name: "found",
  method: "POST",
  url: "/api/huts/search",
  unwrap: (body) => body.ids,
});

// A query string of params: what is undefined is left out.
export const page = api.source({
  name: "page",
  url: ({ region, page }: { region?: string; page: number }) => withQuery("/api/huts", { region, page }),
  unwrap: (body: { count: number }) => body.count,
});

// A request of your own, its response read like any other: freshness, 304, 404, problems.
export const hut = source({
  name: "hut",
  load: async ({ id }: { id: string }, context) => {
    const { signal, held } = context;
    const headers = held?.validator?.etag ? { "if-none-match": held.validator.etag } : {};
    const response = await fetch(`https://huts.example/api/huts/${id}`, { signal, headers });
    return answerOf<{ name: string }>(response, context);
  },
});
