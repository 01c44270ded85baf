import { type Context, Hono } from "hono";
import { answered, jsonOf, problem } from "./responses.js";
import type { World } from "./world.js";

interface Booking {
  hut?: unknown;
  night?: unknown;
}

/** A booking that was answered once, by its key (the Idempotency-Key draft): sent again, it has the same answer and no effect. */
interface Answered {
  readonly request: string;
  readonly status: number;
  readonly body: string;
  readonly headers: Record<string, string>;
}

/** `/api/basket`: one walker's nights. A hut has only so many bunks, and a walker sleeps in one hut a night. */
export function basket(world: World): Hono {
  const app = new Hono();
  const answeredKeys = new Map<string, Answered>();

  app.get("/", (c) => answered(c, { nights: world.basket }, { "cache-control": "private, no-store" }));

  app.post("/", async (c) => {
    const booking = (await jsonOf<Booking>(c)) ?? {};
    const key = c.req.header("idempotency-key");
    const request = JSON.stringify(booking);
    const before = key === undefined ? undefined : answeredKeys.get(key);
    if (before && before.request !== request) {
      return problem(c, 422, "Another request", "This Idempotency-Key was used for another booking.");
    }
    if (before) return c.body(before.body, before.status as 201, before.headers);
    const response = booked(c, world, booking);
    if (key !== undefined) {
      const body = await response.clone().text();
      answeredKeys.set(key, { request, status: response.status, body, headers: Object.fromEntries(response.headers) });
    }
    return response;
  });

  app.delete("/:night", (c) => {
    const night = c.req.param("night");
    const entry = world.basket.find((each) => each.night === night);
    if (!entry) return problem(c, 404, "Nothing booked", `No bunk is booked for the night of ${night}.`);
    world.basket = world.basket.filter((each) => each !== entry);
    return c.body(null, 204, { "cache-group-invalidation": `"hut-${entry.hut}"` });
  });

  return app;
}

function booked(c: Context, world: World, { hut: id, night }: Booking): Response {
  const hut = typeof id === "string" ? world.huts.get(id) : undefined;
  if (!hut || typeof night !== "string" || Number.isNaN(Date.parse(night))) {
    return problem(
      c,
      422,
      "Not a booking",
      'A booking has a hut and a night, such as {"hut":"h-07","night":"2026-11-27"}.',
    );
  }
  const same = world.basket.find((each) => each.night === night);
  if (same) return problem(c, 409, "Already booked", `The night of ${night} is already booked, at ${same.name}.`);
  if (world.bunks(hut, night).free === 0) {
    return problem(c, 409, "The hut is full", `${hut.name} has no bunk left for the night of ${night}.`);
  }
  const entry = { night, hut: hut.id, name: hut.name };
  world.basket = [...world.basket, entry].sort((one, other) => one.night.localeCompare(other.night));
  return c.json(entry, 201, {
    location: `/api/basket/${night}`,
    "cache-group-invalidation": `"hut-${hut.id}"`,
  });
}
