// What the compiler is to accept and to refuse. Nothing here is run: `npm run check` compiles it.
import {
  composite,
  createCache,
  type ParamsOf,
  type Source,
  type StandardSchema,
  source,
  type ValueOf,
  write,
} from "cista";
import { graphqlFrom, origin, type Pages, pagesFrom } from "cista/http";
import { Outcome, useReading, useReadings, useValue, useWrite } from "cista/react";
import { expect, expectTypeOf, test } from "vitest";

interface Job {
  id: string;
  status: "open" | "done";
  crew: { state: "free" | "busy" };
}
declare const schema: StandardSchema<unknown, Job>;
declare const untyped: Promise<any>;
declare const maybe: string | undefined;
declare const text: string;

const cache = createCache();
const api = origin({ base: "https://huts.example" });
const job = source({ name: "job", load: async ({ id }: { id: string }): Promise<Job> => untyped });
const jobs = source({
  name: "jobs",
  load: async (_: { status: "open" | "done"; page?: number }): Promise<Job[]> => untyped,
});
const crews = source({ name: "crews", load: async () => ["Fern"] });

declare const useVueReading: typeof import("cista/vue").useReading;
declare const useSvelteReading: typeof import("cista/svelte").useReading;
declare const createReading: typeof import("cista/solid").createReading;
declare const injectReading: typeof import("cista/angular").injectReading;
declare const usePreactReading: typeof import("cista/preact").useReading;
declare const ReadingController: typeof import("cista/lit").ReadingController;
declare const host: import("lit").ReactiveControllerHost & HTMLElement;

/** A function that is generic in the params of a source hands them on as they are, or by a function. */
export function inEachFramework<P, T>(of: Source<P, T>, params: P, follow: () => P | undefined) {
  return [
    [useVueReading(of, params), useVueReading(of, follow, { when: true })],
    [useSvelteReading(of, params), useSvelteReading(of, follow, { when: true })],
    [createReading(of, params), createReading(of, follow, { when: true })],
    [injectReading(of, params), injectReading(of, follow, { when: true })],
    [usePreactReading(of, params), new ReadingController(host, of, follow)],
  ];
}
export function withoutParams() {
  createReading(crews, () => ({ when: true }));
  // @ts-expect-error an option of another name
  createReading(crews, () => ({ wen: true }));
  // @ts-expect-error params for a source that takes none
  createReading(crews, { id: "h-07" });
}

/** A function that is generic in the params of a source hands them on as they are. */
export async function anySource<P, T>(of: Source<P, T>, params: P): Promise<T> {
  useReading(of, params, { revalidateEvery: "10s" });
  useReading(of, text ? params : undefined);
  useReadings(of, [params]);
  cache.put(of, params, useValue(of, params));
  cache.at(of, params).invalidate();
  cache.invalidate({ source: of, params });
  return cache.read(of, params, { cache: "reload" });
}

export function values() {
  expectTypeOf(source({ name: "a", check: schema, load: () => untyped })).toEqualTypeOf<Source<void, Job>>();
  expectTypeOf(source({ name: "a", load: () => untyped })).toEqualTypeOf<Source<void, unknown>>();
  expectTypeOf(source({ name: "a", check: schema, load: (page: number = 1) => page })).toEqualTypeOf<
    Source<number | undefined, Job>
  >();
  // The value's type may be written out, where inference does not say it.
  const written = source<{ id: string }, Job>({ name: "a", load: async ({ id }) => ({ ...(await untyped), id }) });
  expectTypeOf(written).toEqualTypeOf<Source<{ id: string }, Job>>();
  expectTypeOf(source<void, "open" | "done">({ name: "a", load: async () => "open" })).toEqualTypeOf<
    Source<void, "open" | "done">
  >();
  const counted = composite<void, number>({
    name: "a",
    params: false,
    load: async function* (_, { read }) {
      yield (await read(crews)).length;
    },
  });
  expectTypeOf(counted).toEqualTypeOf<Source<void, number>>();
  // @ts-expect-error a part of the value is missing
  source<void, Job>({ name: "a", load: async () => ({ id: "j-1" }) });
  expectTypeOf<[ParamsOf<typeof job>, ValueOf<typeof job>]>().toEqualTypeOf<[{ id: string }, Job]>();
  expectTypeOf<[ParamsOf<typeof crews>, ValueOf<typeof crews>]>().toEqualTypeOf<[void, string[]]>();
  const url = "/api/jobs";
  expectTypeOf(api.source({ name: "a", url })).toEqualTypeOf<Source<void, unknown>>();
  expectTypeOf(api.source({ name: "a", url, unwrap: (body) => body.jobs })).toEqualTypeOf<Source<void, unknown>>();
  expectTypeOf(api.source({ name: "a", url, check: schema, unwrap: (body) => body.job })).toEqualTypeOf<
    Source<void, Job>
  >();
  expectTypeOf(api.source({ name: "a", url, unwrap: (body: { job: Job }) => body.job })).toEqualTypeOf<
    Source<void, Job>
  >();
  expectTypeOf(api.source({ name: "a", url, parse: (response) => response.text() })).toEqualTypeOf<
    Source<void, string>
  >();
  expectTypeOf(api.source<Job[]>({ name: "a", url })).toEqualTypeOf<Source<void, Job[]>>();
  expectTypeOf(api.source<{ id: string }>({ name: "a", url: ({ id }) => id })).toEqualTypeOf<
    Source<{ id: string }, unknown>
  >();
  expectTypeOf(api.source<{ id: string }, Job>({ name: "a", url: ({ id }) => id })).toEqualTypeOf<
    Source<{ id: string }, Job>
  >();
  // @ts-expect-error what parse makes is text
  api.source<void, Job>({ name: "a", url, parse: (response) => response.text() });
  expectTypeOf(pagesFrom(api, { name: "a", url, unwrap: (body) => body.jobs })).toEqualTypeOf<
    Source<void, Pages<unknown>>
  >();
  expectTypeOf(graphqlFrom(api, { name: "a", url, document: "{ job }", unwrap: (data) => data.job })).toEqualTypeOf<
    Source<void, unknown>
  >();
  const retry = { times: 2 } as const;
  const picked = graphqlFrom<void, { id: string }>(api, {
    name: "a",
    url,
    document: "{ job }",
    unwrap: ({ job }) => job,
    retry,
  });
  expectTypeOf(picked).toEqualTypeOf<Source<void, { id: string }>>();
  expectTypeOf(graphqlFrom(api, { name: "a", url, document: "{ job }", check: schema })).toEqualTypeOf<
    Source<void, Job>
  >();
}

export function params() {
  cache.read(job, { id: text });
  cache.read(crews);
  cache.view(crews, undefined, { when: false });
  // @ts-expect-error the id may be undefined
  cache.read(job, { id: maybe });
  // @ts-expect-error no params
  cache.read(job);
  // @ts-expect-error a member too many
  cache.read(job, { id: text, page: 1 });
  // @ts-expect-error params for a source without
  cache.read(crews, { id: text });
  // @ts-expect-error the id may be undefined
  cache.at(job, { id: maybe });
  // @ts-expect-error another value
  cache.put(job, { id: text }, { id: text });
  useReading(job, maybe === undefined ? undefined : { id: maybe });
  expectTypeOf(useReading(crews, { pick: (names) => names.length }).value).toEqualTypeOf<number | undefined>();
  expectTypeOf(useReading(crews, undefined, { pick: ([first]) => first }).value).toEqualTypeOf<string | undefined>();
  expectTypeOf(useValue(crews, { pick: (names) => names.length })).toEqualTypeOf<number>();
  // @ts-expect-error a value is wanted, so its params are needed
  useValue(job, undefined);
  // @ts-expect-error the id may be undefined
  useReading(job, { id: maybe });
  composite({
    name: "join",
    params: false,
    // @ts-expect-error the id may be undefined
    load: async (_, { read }) => read(job, { id: maybe }),
  });
}

export function changes() {
  cache.at(job, { id: text }).patch((now) => ({ ...now, status: "done", crew: { state: "busy" } }));
  // @ts-expect-error no such status
  cache.at(job, { id: text }).patch((now) => ({ ...now, status: "gone" }));
  const finish = write<{ id: string }, Job>({
    name: "finish",
    send: async () => untyped,
    optimistic: ({ id }, edit) => {
      edit.at(job, { id }).patch((now) => ({ ...now, status: "done" }));
      edit.each(jobs).patch((list) => list.map((each) => (each.id === id ? { ...each, status: "done" } : each)));
      edit.each({ source: jobs, params: { status: "open" } }).patch((list, { page }) => (page === 1 ? [] : list));
      // @ts-expect-error no such status
      edit.at(job, { id }).patch((now) => ({ ...now, status: "gone" }));
    },
  });
  const [run, status] = useWrite(finish);
  expectTypeOf(run({ id: text })).resolves.toExtend<{ phase: "done" | "failed" }>();
  expectTypeOf(status.result).toEqualTypeOf<Job | undefined>();
  // @ts-expect-error an input is needed
  run();
  cache.invalidate({ source: jobs, params: { status: "done" } });
  // @ts-expect-error no such member
  cache.invalidate({ source: jobs, params: { state: "done" } });
}

export function several() {
  expectTypeOf(useReadings(job, [{ id: text }])[0]?.value).toEqualTypeOf<Job | undefined>();
  const [one, all] = useReadings([[job, { id: text }], [crews]]);
  expectTypeOf(one.value).toEqualTypeOf<Job | undefined>();
  expectTypeOf(all.value).toEqualTypeOf<string[] | undefined>();
  // @ts-expect-error the id is text
  useReadings([[job, { id: 7 }], [crews]]);
  Outcome({ of: [one, all], children: ([{ status }, names]) => [status, ...names].join() });
}

test("types are checked by the compiler", () => {
  expect([values, params, changes, several].map((part) => typeof part)).not.toContain("undefined");
});
