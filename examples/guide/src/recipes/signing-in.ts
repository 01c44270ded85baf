import { createCache, Failure } from "cista";
import { origin } from "cista/http";

let token = sessionStorage.getItem("token") ?? "";
let walker = sessionStorage.getItem("walker") ?? undefined;

export const api = origin({
  base: "https://huts.example",
  headers: () => ({ authorization: `Bearer ${token}` }), // called before each request
  user: () => walker, // the same for every token of one walker
  // At 401: once for all requests that are refused meanwhile, and each of them is made once more.
  renew: async () => {
    const response = await fetch("https://huts.example/api/token", { method: "POST", credentials: "include" });
    if (!response.ok) throw new Failure("http", "Sign in again.", { status: response.status });
    const renewed = (await response.json()) as { token: string; walker: string };
    token = renewed.token;
    walker = renewed.walker;
    sessionStorage.setItem("token", token);
    sessionStorage.setItem("walker", walker);
  },
});

export const basket = api.source({
  name: "basket",
  url: "/api/basket",
  unwrap: (body: { nights: string[] }) => body.nights,
});

/** @param toSignIn shows the page to sign in; called for each panel that was refused, so it does nothing where that is shown */
export function cacheFor(toSignIn: () => void) {
  const cache = createCache();
  cache.onFailure(({ status }) => {
    if (status === 401) toSignIn(); // it could not be renewed either
  });
  return cache;
}
