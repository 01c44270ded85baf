import { receivePage } from "cista/browser";
import { browserCache } from "$lib/cista";

export const init = async () => {
  if (browserCache) await receivePage(browserCache);
};
