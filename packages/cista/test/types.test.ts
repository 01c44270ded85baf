import { answer, createCache, type StandardSchema, source, write } from "cista";
import { origin } from "cista/http";
import { expectTypeOf, test } from "vitest";

interface Job {
  id: string;
  status: "open" | "done";
  crew: { state: "free" | "busy" };
}
declare const schema: StandardSchema<unknown, Job>;
declare const response: Promise<any>;
declare const maybe: string | undefined;
declare const text: string;

test("a", () => {
  const a = source({ name: "a", check: schema, load: () => response });
  expectTypeOf(a).toEqualTypeOf<import("cista").Source<void, Job>>();
  const b = source({ name: "b", load: (all = true) => answer(all ? 1 : 2) });
  expectTypeOf(b).toEqualTypeOf<import("cista").Source<boolean | undefined, number>>();
  const c = source({ name: "c", check: schema, load: (all = true) => all });
  expectTypeOf(c).toEqualTypeOf<import("cista").Source<boolean | undefined, Job>>();
  const d = source({ name: "d", load: async () => response });
  expectTypeOf(d).toEqualTypeOf<import("cista").Source<void, unknown>>();
  const e = source({ name: "e", load: async ({ id }: { id: string }) => ({ id }) as Job });
  const cache = createCache();
  cache.read(e, { id: text });
  // @ts-expect-error
  cache.read(e, { id: maybe });
  // @ts-expect-error
  cache.read(e, undefined);
  // @ts-expect-error
  cache.read(e);
  cache.at(e, { id: text }).patch((job) => ({ ...job, status: "done", crew: { state: "busy" } }));
});
