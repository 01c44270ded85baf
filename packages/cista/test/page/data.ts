import { origin } from "cista/http";

// What the pages of page.e2e.test.ts and hydration.e2e.test.ts show. `address` is where it comes from.

let address = "";
export const dataFrom = (url: string): void => {
  address = url;
};

/** A kind of answer, by its name; the server knows what to send with it. */
export const value = origin().source<string, { text: string }>({
  name: "value",
  url: (name) => `${address}/api/${name}`,
});
