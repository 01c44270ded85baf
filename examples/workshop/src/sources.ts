import { composite, createCache, Failure, matching } from "cista";
import { eventsFrom, origin, pagesFrom, path, withQuery, writeTo } from "cista/http";
import type { Crew, Job, Order, Status } from "./world.js";

// Where everything in the workshop comes from, and how it is changed. How long it may be used the server says itself.

let token = "";

const api = origin({
  headers: () => ({ authorization: `Bearer ${token}` }),
  renew: async () => {
    const response = await fetch("/api/token", { method: "POST" });
    if (!response.ok) throw new Failure("http", "Sign in again.", { status: response.status });
    token = ((await response.json()) as { token: string }).token;
  },
});

export const cache = createCache({ partition: "crews" });
cache.onSignOut(() => {
  token = "";
});

// ── What is read ──

export const jobs = pagesFrom<{ status?: Status }, Job>(api, {
  name: "jobs",
  url: (filter) => withQuery("/api/jobs", { ...filter }),
  unwrap: (body) => body.items,
  next: ({ cursor }, _, filter) => cursor && withQuery("/api/jobs", { ...filter, cursor }),
});

export const job = api.source<{ id: string }, Job>({ name: "job", url: ({ id }) => path`/api/jobs/${id}` });
export const crew = api.source<{ id: string }, Crew>({ name: "crew", url: ({ id }) => path`/api/crews/${id}` });

/** A job with its crew in the place of the link: missing where the job is. */
export const jobWithCrew = composite({
  name: "job-with-crew",
  load: async ({ id }: { id: string }, { read }) => {
    const found = await read(job, { id });
    return { ...found, crew: found.crew === null ? undefined : await read(crew, { id: found.crew }) };
  },
});

export const search = api.source<{ text: string }, Job[]>({ name: "search", method: "POST", url: "/api/jobs/search" });

export const order = api.source<{ id: string }, Order>({
  name: "order",
  url: ({ id }) => path`/api/orders/${id}`,
  revalidateEvery: ({ state }) => (state === "delivered" ? false : "500ms"),
});

export const notices = eventsFrom<void, readonly string[]>(api, {
  name: "notices",
  url: "/api/notices",
  start: [],
  reduce: (all, { data }) => [data, ...all],
});

// ── What is changed: shown at once, taken back when refused ──

export const addJob = writeTo<{ title: string }, Job>(api, { name: "add-job", method: "POST", url: "/api/jobs" });

export const setStatus = writeTo<{ id: string; status: Status }, Job>(api, {
  name: "set-status",
  method: "PATCH",
  url: ({ id }) => path`/api/jobs/${id}`,
  body: ({ status }) => ({ status }),
  optimistic({ id, status }, edit) {
    edit.at(job, { id }).patch((now) => ({ ...now, status }));
    edit.at(jobWithCrew, { id }).patch((now) => ({ ...now, status }));
    edit.each(jobs).patch((list, filter) => {
      const items = list.items.map((each) => (each.id === id ? { ...each, status } : each));
      return { ...list, items: items.filter((each) => !filter.status || each.status === filter.status) };
    });
  },
});

export const removeJob = writeTo<string, void>(api, {
  name: "remove-job",
  method: "DELETE",
  url: (id) => path`/api/jobs/${id}`,
  optimistic: (id, edit) =>
    edit.each(jobs).patch((list) => ({ ...list, items: list.items.filter((each) => each.id !== id) })),
  invalidates: (id) => matching(job, { id }),
});

export const addPhoto = writeTo<{ id: string; photo: File }, { id: string }>(api, {
  name: "add-photo",
  method: "POST",
  url: ({ id }) => path`/api/jobs/${id}/photos`,
  body({ photo }) {
    const form = new FormData();
    form.set("photo", photo);
    return form;
  },
});

export const orderParts = writeTo<{ job: string }, Order>(api, {
  name: "order-parts",
  method: "POST",
  url: "/api/orders",
  onSuccess: (made, _, cache) => cache.put(order, { id: made.id }, made),
});
