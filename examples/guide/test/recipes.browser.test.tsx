/// <reference types="vite/client" />

import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import { createCache, entriesOf } from "cista";
import { CistaProvider } from "cista/react";
import type { ReactNode } from "react";
import { afterEach, expect, test, vi } from "vitest";
import { Notices } from "../src/recipes/events.js";
import { ReportForm } from "../src/recipes/forms.js";
import { Repairs } from "../src/recipes/lists.js";
import { cacheWithAnswers } from "../src/recipes/mocking.js";
import { found, hut as ownHut, page, story } from "../src/recipes/other-bodies.js";
import { LiveWeather, OrderState } from "../src/recipes/polling.js";
import { HutPage, loadHut, loadHutAndWait, cache as routed } from "../src/recipes/routers.js";
import { Huts, HutPage as RowPage } from "../src/recipes/rows.js";
import { Search } from "../src/recipes/search.js";
import { SignOut } from "../src/recipes/sign-out.js";
import { basket, cacheFor } from "../src/recipes/signing-in.js";
import { PhotoUpload } from "../src/recipes/uploads.js";

// Each recipe's program, as it stands on its page, driven against a server in a function.

const texts = import.meta.glob<string>(["../src/recipes/*", "./testing*"], { query: "?raw", import: "default" });
const pages = import.meta.glob<string>("../../../docs/guide/recipes/*.md", { query: "?raw", import: "default" });
const nameOf = (path: string) => path.replace(/^.*\/([\w-]+).*$/, "$1");

test("every recipe has a page, with its program word for word", async () => {
  const programs = await Promise.all(Object.entries(texts).map(async ([path, text]) => [nameOf(path), await text()]));
  expect(Object.keys(pages).map(nameOf).sort()).toEqual(programs.map(([name]) => name).sort());
  for (const [path, text] of Object.entries(pages)) {
    const [, block] = /```tsx?\n(.*?)```/s.exec(await text()) ?? [];
    expect(block, path).toBe(Object.fromEntries(programs)[nameOf(path)]);
  }
});

afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
  sessionStorage.clear();
});

/** What the server was asked, and in what order. */
function serve(answer: (request: Request) => Response | Promise<Response>) {
  const asked: string[] = [];
  vi.spyOn(globalThis, "fetch").mockImplementation(async (input, init) => {
    const request = new Request(input, init);
    asked.push(`${request.method} ${request.url.replace("https://huts.example", "")}`);
    return answer(request);
  });
  return asked;
}
const problem = (status: number, body: object) =>
  Response.json(body, { status, headers: { "content-type": "application/problem+json" } });
const show = (tree: ReactNode, cache = createCache({ retry: false })) =>
  render(<CistaProvider cache={cache}>{tree}</CistaProvider>);

test("forms: each error is told at its field; done, the form is left", async () => {
  const answers = [
    problem(422, { title: "Incomplete", errors: { text: "Say which bunk." } }),
    Response.json({ id: "r-1" }),
  ];
  serve(() => answers.shift() as Response);
  const onDone = vi.fn();
  show(<ReportForm hut="h-07" onDone={onDone} />);
  fireEvent.change(screen.getByRole("textbox"), { target: { value: "A bunk" } });
  fireEvent.click(screen.getByRole("button"));
  expect((await screen.findByRole("alert")).textContent).toBe("Say which bunk.");
  fireEvent.click(screen.getByRole("button"));
  await waitFor(() => expect(onDone).toHaveBeenCalledWith("r-1"));
});

test("rows: one that is added has an id of its own at once; a page begins with the list's row", async () => {
  let answer: (response: Response) => void = () => {};
  const held = [{ id: "h-1", name: "Harebell" }];
  serve(({ method, url }) => {
    if (method === "POST") return new Promise((resolve) => (answer = resolve));
    if (url.endsWith("/huts")) return Response.json(held);
    return new Promise(() => {});
  });
  const cache = createCache({ retry: false });
  const onOpen = vi.fn();
  show(<Huts onOpen={onOpen} />, cache);
  await screen.findByText("Harebell");
  fireEvent.click(screen.getByText("Add"));
  fireEvent.click(screen.getByText("Add"));
  const added = await screen.findAllByText("Tarn Hut");
  for (const row of added) fireEvent.click(row);
  expect(new Set(onOpen.mock.calls.map(([id]) => id)).size).toBe(2);
  held.push({ id: "h-2", name: "Tarn Hut" });
  answer(Response.json(held[1]));
  show(<RowPage id="h-1" />, cache);
  expect((await screen.findByText(/litres/)).textContent).toBe("Harebell: … litres");
});

test("uploads: the file goes as a form, can be stopped, and is shown", async () => {
  const sent: unknown[] = [];
  let answer: (response: Response) => void = () => {};
  serve(async (request) => {
    sent.push(((await request.formData()).get("photo") as File).name);
    return new Promise((resolve, reject) => {
      answer = resolve;
      request.signal.addEventListener("abort", () => reject(request.signal.reason));
    });
  });
  show(<PhotoUpload hut="h-07" />);
  const choose = () =>
    fireEvent.change(screen.getByLabelText("Photo"), { target: { files: [new File(["x"], "roof.png")] } });
  choose();
  fireEvent.click(await screen.findByRole("button"));
  await waitFor(() => expect(screen.queryByRole("button")).toBeNull());
  choose();
  await waitFor(() => expect(sent).toEqual(["roof.png", "roof.png"]));
  answer(Response.json({ url: "data:," }));
  expect((await screen.findByRole("img")).getAttribute("src")).toBe("data:,");
});

test("signing in: one renewal, and the page to sign in where that fails", async () => {
  let good = "t-1";
  const asked = serve(({ url, headers }) => {
    if (url.endsWith("token"))
      return good === "" ? new Response(null, { status: 403 }) : Response.json({ token: good });
    return headers.get("authorization") === `Bearer ${good}` ? Response.json({ nights: ["a"] }) : problem(401, {});
  });
  const toSignIn = vi.fn();
  const cache = cacheFor(toSignIn);
  expect(await cache.read(basket)).toEqual(["a"]);
  expect(asked).toEqual(["GET /api/basket", "POST /api/token", "GET /api/basket"]);
  good = "";
  await cache.read(basket, undefined, { cache: "reload" }).catch(() => {});
  expect(toSignIn).toHaveBeenCalledTimes(1);
});

test("search: asked for when the typing has stopped", async () => {
  const asked = serve(() => Response.json({ huts: [{ id: "h-07", name: "Harebell Hut" }] }));
  show(<Search />);
  await screen.findByText("Harebell Hut");
  for (const value of ["h", "ha", "har"]) fireEvent.change(screen.getByRole("searchbox"), { target: { value } });
  await waitFor(() => expect(asked).toHaveLength(2));
  expect(asked).toEqual(["GET /api/huts?q=", "GET /api/huts?q=har"]);
});

test("lists: more pages, and a row that goes wherever it stands, and comes back when refused", async () => {
  serve(({ method, url }) => {
    if (method === "DELETE") return problem(409, { title: "The crew is under way" });
    const second = url.includes("cursor");
    return Response.json({
      items: [{ id: second ? "r-2" : "r-1", text: second ? "Stove" : "Roof" }],
      cursor: second ? null : "x",
    });
  });
  show(<Repairs region="north" />);
  fireEvent.click(await screen.findByText("More"));
  await screen.findByText(/Stove/);
  expect(screen.queryByText("More")).toBeNull();
  fireEvent.click(screen.getByLabelText("Remove Stove"));
  await waitFor(() => expect(screen.queryByText(/Stove/)).toBeNull());
  expect((await screen.findByRole("alert")).textContent).toContain("The crew is under way");
  await screen.findByText(/Stove/);
});

test("polling: until the repair is done, and for as long as a component watches it", async () => {
  vi.useFakeTimers();
  const states = ["queued", "under way", "done"];
  const asked = serve(({ url }) =>
    Response.json(url.includes("orders") ? { id: "o-1", state: states.shift() } : { sky: "fog" }),
  );
  show(<OrderState id="o-1" />);
  await vi.advanceTimersByTimeAsync(10_000);
  expect(asked).toHaveLength(3);
  cleanup();
  show(<LiveWeather />);
  await vi.advanceTimersByTimeAsync(30_000);
  expect(asked).toHaveLength(7);
  vi.useRealTimers();
});

test("events: each is added to the list that is shown", async () => {
  const body = 'data: {"text":"Ice on Crow Steps"}\n\n';
  serve(() => new Response(body, { headers: { "content-type": "text/event-stream" } }));
  show(<Notices />);
  await screen.findByText("Ice on Crow Steps");
  await screen.findByText(/The connection is lost/);
});

test("routers: the loader begins the request that the component joins", async () => {
  const asked = serve(() => Response.json({ name: "Harebell Hut" }, { headers: { "cache-control": "max-age=60" } }));
  expect(loadHut({ params: { id: "h-07" } })).toBeNull();
  show(<HutPage id="h-07" />, routed);
  await screen.findByText("Harebell Hut");
  expect((await loadHutAndWait({ params: { id: "h-07" } })).name).toBe("Harebell Hut");
  expect(asked).toEqual(["GET /api/huts/h-07"]);
});

test("sign-out: the cache is empty, and the token gone", async () => {
  sessionStorage.setItem("token", "t");
  const cache = (await import("../src/recipes/sign-out.js")).cache;
  cache.put(basket, undefined, ["a"]);
  const toSignIn = vi.fn();
  show(<SignOut toSignIn={toSignIn} />, cache);
  fireEvent.click(screen.getByRole("button"));
  await waitFor(() => expect(toSignIn).toHaveBeenCalled());
  expect([sessionStorage.getItem("token"), [...entriesOf(cache)]]).toEqual([null, []]);
});

test("mocking: answers by the names of sources, the rest as it really is", async () => {
  serve(() => Response.json({ name: "from the server" }));
  const cache = cacheWithAnswers(0);
  expect(await cache.read(ownHut, { id: "h-07" })).toEqual({ id: "h-07", name: "Harebell Hut" });
  await expect(cache.read(ownHut, { id: "h-99" })).rejects.toMatchObject({ kind: "missing" });
  expect(await cache.read(story, { id: "h-07" })).toContain("from the server");
});

test("other bodies: text, a read by POST, a query string, a response of one's own", async () => {
  const asked = serve(async (request) => {
    if (request.method === "POST") return Response.json({ ids: [await request.text()] });
    if (request.url.includes("region")) return Response.json({ count: 4 });
    if (request.headers.has("if-none-match")) return new Response(null, { status: 304 });
    return new Response('{"name":"Harebell Hut"}', { headers: { etag: '"a"' } });
  });
  const cache = createCache();
  expect(await cache.read(story, { id: "h-07" })).toBe('{"name":"Harebell Hut"}');
  expect(await cache.read(found, { near: [1, 2], open: true })).toEqual(['{"near":[1,2],"open":true}']);
  expect(await cache.read(page, { region: "north", page: 2 })).toBe(4);
  const held = await cache.read(ownHut, { id: "h-07" });
  expect(await cache.read(ownHut, { id: "h-07" }, { cache: "no-cache" })).toBe(held);
  expect(asked).toContain("GET /api/huts?region=north&page=2");
});
