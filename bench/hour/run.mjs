// `npm run hour`: the board left open for a simulated hour while nothing changes on the server, once with the server's
// own word on freshness (cista/http), once with the same lifetimes said by code. Prints a table.
import { here } from "../stage.mjs";
import { onStage } from "./stage.mjs";

console.log(
  "| An hour of the board, nothing changing | requests | of them 304 | bytes of bodies | values replaced | renders |",
);
console.log("|---|---|---|---|---|---|");
for (const [title, options] of [
  ["freshness by code alone", { sources: here("hour/by-code.ts") }],
  ["the server's word", {}],
]) {
  const { requests, notModified, bytes, replaced, commits } = await onStage(hour, options);
  console.log(`| ${title} | ${requests} | ${notModified} | ${bytes.toLocaleString("en")} | ${replaced} | ${commits} |`);
}

async function hour(page, origin) {
  origin.tally.clear();
  const { kept, entries, commits } = await page.evaluate(() => window.hour());
  const { requests, notModified, bytes } = origin.tally.toJSON().all;
  return { requests, notModified, bytes, replaced: entries - kept, commits };
}
