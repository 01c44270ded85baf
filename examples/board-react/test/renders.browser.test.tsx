import { createCache, journalOf, where } from "cista";
import { CistaProvider } from "cista/react";
import { virtualClock } from "cista/rehearsal";
import { expect, test, vi } from "vitest";

// React tells its development tools of each commit: which components it has rendered is read from there.
const rendered = new Map<string, number>();
const performedWork = 1;
interface Fiber {
  readonly type: { name?: string; type?: { name?: string } } | string | null;
  readonly flags: number;
  readonly child: Fiber | null;
  readonly sibling: Fiber | null;
  readonly alternate: Fiber | null;
}
Object.assign(window, {
  __REACT_DEVTOOLS_GLOBAL_HOOK__: {
    supportsFiber: true,
    inject: () => 1,
    onCommitFiberUnmount: () => {},
    onCommitFiberRoot: (_: number, root: { current: Fiber }) => count(root.current.child),
  },
});
function count(first: Fiber | null): void {
  for (let fiber = first; fiber; fiber = fiber.sibling) {
    const { type, flags, child, alternate } = fiber;
    const name =
      typeof type === "object" ? type?.type?.name : typeof type === "function" ? (type as any).name : undefined;
    if (name && flags & performedWork) rendered.set(name, (rendered.get(name) ?? 0) + 1);
    if (child !== alternate?.child) count(child); // else left as it was
  }
}
const { createRoot } = await import("react-dom/client");
const { Board } = await import("../src/board.js");

const huts = ["Harebell Hut", "Peat Hag Hut", "Rowan Gap Hut"].map((name, n) => ({
  id: `h-${n}`,
  name,
  region: "Ashdale",
  altitude: 500 + n,
  warden: "Fenn Oakley",
  water: 90,
  openMonths: [5, 6, 7],
  routes: [],
}));
function answer(path: string): unknown {
  if (path === "/api/huts") return { count: huts.length, huts };
  if (path.endsWith("/bunks")) return { free: 3, of: 12, night: "2026-11-23" };
  if (path.endsWith("/logbook")) return [{ id: "n-1", at: "2026-11-20T08:00", by: "Moss", text: "Clear to the pass." }];
  if (path === "/api/basket") return { nights: [] };
  return huts[0];
}

test("N4: unchanged answers render nothing; one changed hut renders its components alone", async () => {
  vi.spyOn(window, "fetch").mockImplementation(async (input, init) => {
    const { url, headers, signal } = new Request(input, init);
    const { pathname } = new URL(url);
    if (pathname === "/api/notices") {
      const body = new ReadableStream({
        start: (events) => {
          const event = 'id: 1\ndata: {"id":"1","text":"Snow bridge gone"}\n\n';
          if (!headers.has("Last-Event-ID")) events.enqueue(new TextEncoder().encode(event));
          signal?.addEventListener("abort", () => events.error(signal.reason));
        },
      });
      return new Response(body, { headers: { "Content-Type": "text/event-stream" } });
    }
    return Response.json(answer(pathname), { headers: { "Cache-Control": "max-age=60" } });
  });
  location.hash = "#h-0";
  const clock = virtualClock(Date.UTC(2026, 10, 23, 18));
  const cache = createCache({ clock });
  const place = document.body.appendChild(document.createElement("div"));
  const root = createRoot(place);
  root.render(
    <CistaProvider cache={cache}>
      <Board />
    </CistaProvider>,
  );
  const drawn = () => new Promise((resolve) => requestAnimationFrame(() => setTimeout(resolve)));
  await expect.poll(() => place.textContent).toMatch(/Harebell Hut.*litres.*3 of 12 free.*Snow bridge gone/s);
  await drawn();

  const asked: string[] = [];
  journalOf(cache).subscribe(({ kind, key = "" }) => kind === "request" && asked.push(key));
  rendered.clear();
  await cache.revalidate(where(({ reading }) => reading.state === "ready"));
  await drawn();
  expect(asked.length).toBeGreaterThanOrEqual(5); // all of it was asked for
  expect(Object.fromEntries(rendered)).toEqual({});

  huts[1] = { ...(huts[1] as (typeof huts)[number]), altitude: 777 };
  await cache.revalidate(where(({ source }) => source === "huts" || source === "hut"));
  await drawn();
  expect(place.textContent).toContain("777 m");
  expect(rendered.get("HutRow")).toBe(1);
  const others = ["HutFacts", "HutPanel", "BunksPanel", "Notes", "BasketPanel", "Stays", "Trail", "Board"];
  expect(others.filter((name) => rendered.has(name))).toEqual([]);
  expect([...rendered.keys()].sort()).toEqual([
    "HutList",
    "HutRow",
    "HutRows",
    "Outcome",
    "Panel",
    "RegionFilter",
    "Search",
  ]);
  root.unmount();
  cache.dispose();
  place.remove();
  vi.restoreAllMocks();
});
