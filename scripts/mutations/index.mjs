import { bindings } from "./bindings.mjs";
import { fleet } from "./fleet.mjs";
import { groups } from "./groups.mjs";
import { keys } from "./keys.mjs";
import { pages } from "./pages.mjs";
import { requests } from "./requests.mjs";
import { tabs } from "./tabs.mjs";
import { values } from "./values.mjs";

/** Line breaks and indentation are the formatter's business. */
export function patternOf(text) {
  const words = text.split(/\s+/).map((word) => word.replace(/[.*+?^${}()|[\]\\]/g, "\\$&"));
  return new RegExp(words.join("\\s*"), "g");
}

/** For `npm run mutate`: the rule that is broken, the file, what stands there (exactly once), and what stands there instead. */
export const mutations = [...bindings, ...fleet, ...groups, ...keys, ...pages, ...requests, ...tabs, ...values];
