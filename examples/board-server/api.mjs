// The huts' data: what is for all comes from one world, and each walker's basket from one of their own.
import { Hono } from "hono";
import { getCookie, setCookie } from "hono/cookie";

/** Who has signed in, by the cookie. */
export const walkerOf = (c) => (getCookie(c, "walker") === "Ash" ? "Ash" : "Wren");

/** Signing in: one of two walkers, as a page's form says. */
export async function signIn(c) {
  const { walker } = await c.req.parseBody();
  setCookie(c, "walker", walker === "Ash" ? "Ash" : "Wren", { httpOnly: true, sameSite: "Lax" });
  return c.redirect("/", 303);
}

/**
 * @param startOrigin of the example's origin
 * @param slow waited for before the bunks are counted: they stream in behind the rest
 * @param onAsked told of each request: method and path
 */
export async function dataServer({ startOrigin, slow, onAsked = () => {} }) {
  const origins = { huts: await startOrigin(), Wren: await startOrigin(), Ash: await startOrigin() };
  const app = new Hono();
  app.all("/api/*", async (c) => {
    const { pathname, search } = new URL(c.req.url);
    const { method } = c.req;
    onAsked(method, pathname);
    if (pathname.endsWith("/bunks")) await slow();
    const isBasket = pathname.startsWith("/api/basket");
    const body = method === "GET" ? undefined : await c.req.arrayBuffer();
    const ask = (origin) => {
      const headers = new Headers(c.req.raw.headers);
      for (const name of ["host", "origin", "cookie"]) headers.delete(name); // the world's server takes no pages of others
      return fetch(`${origin.url}${pathname}${search}`, { method, headers, body });
    };
    const answer = await ask(isBasket ? origins[walkerOf(c)] : origins.huts);
    // What a walker has booked is taken for all.
    if (isBasket && method !== "GET" && answer.ok) await ask(origins.huts).then((taken) => taken.arrayBuffer());
    const sent = new Headers(answer.headers);
    for (const name of ["content-encoding", "content-length", "transfer-encoding"]) sent.delete(name);
    return new Response(answer.body, { status: answer.status, headers: sent });
  });
  const close = async () => {
    for (const origin of Object.values(origins)) await origin.close();
  };
  return { app, origins, close };
}
