import { cleanup, render, screen } from "@testing-library/react";
import { createCache } from "cista";
import { origin, path } from "cista/http";
import { CistaProvider, Outcome, useReading } from "cista/react";
import { afterEach, expect, test, vi } from "vitest";

// What is tested: in an application it stands in files of its own.
const api = origin({ base: "https://huts.example" });
const hut = api.source<{ id: string }, { name: string }>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
const HutName = ({ id }: { id: string }) => (
  <Outcome of={useReading(hut, { id })}>{({ name }) => <h1>{name}</h1>}</Outcome>
);

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

/** A cache of its own for each test; without retries a failure is there at once. */
const shown = (id: string) =>
  render(
    <CistaProvider cache={createCache({ retry: false })}>
      <HutName id={id} />
    </CistaProvider>,
  );

test("shows the hut's name", async () => {
  const asked = vi.spyOn(globalThis, "fetch").mockImplementation(async () => Response.json({ name: "Harebell Hut" }));
  shown("h-07");
  expect(screen.getByRole("status").textContent).toBe("Loading…");
  expect((await screen.findByRole("heading")).textContent).toBe("Harebell Hut");
  expect(String(asked.mock.calls[0]?.[0])).toBe("https://huts.example/api/huts/h-07");
});

test("the failure is told, and trying again works", async () => {
  const answers = [new Response(null, { status: 503 }), Response.json({ name: "Harebell Hut" })];
  vi.spyOn(globalThis, "fetch").mockImplementation(async () => answers.shift() as Response);
  shown("h-07");
  expect((await screen.findByRole("alert")).textContent).toContain("Something went wrong");
  screen.getByRole("button").click();
  await screen.findByRole("heading");
});

test("a value that is there already is shown at once", () => {
  const cache = createCache();
  cache.put(hut, { id: "h-12" }, { name: "Peat Hag Hut" });
  render(
    <CistaProvider cache={cache}>
      <HutName id="h-12" />
    </CistaProvider>,
  );
  expect(screen.getByRole("heading").textContent).toBe("Peat Hag Hut");
});
