import { createCache } from "cista";
import { receive } from "cista/browser";
import { dataFrom } from "../../page/data.js";
import { sides } from "./sides.js";

dataFrom(location.origin);
const cache = createCache({ retry: false });
await receive(cache);
const names = new URLSearchParams(location.search).get("parts")?.split(",") ?? [];
const { framework = "" } = document.documentElement.dataset;
const side = await sides[framework]?.();
Object.assign(globalThis, { cache });
side?.hydrate(cache, names);
