import { createCache } from "cista";
import { receivePage } from "cista/browser";
import { dataFrom } from "../../page/data.js";
import { sides } from "./sides.js";

dataFrom(location.origin);
const cache = createCache({ retry: false });
await receivePage(cache);
const names = new URLSearchParams(location.search).get("parts")?.split(",") ?? [];
const { framework = "" } = document.documentElement.dataset;
const side = await sides[framework]?.();
Object.assign(globalThis, { cache });
side?.hydrate(cache, names);
