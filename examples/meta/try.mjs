// `node examples/meta/try.mjs nuxt`: builds an application of this folder, drives it, and prints what was shown and asked for.
import { mkdtempSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { launchChromium } from "../../scripts/browser.mjs";
import { apps, build, packLibrary, remove, start } from "./apps.mjs";
import { twoVisitors, visit } from "./drive.mjs";

const names = process.argv.slice(2);
if (names.length === 0 || names.some((name) => !(name in apps))) {
  console.error(`Say which: ${Object.keys(apps).join(", ")}.`);
  process.exit(1);
}
const packs = mkdtempSync(join(tmpdir(), "cista-pack-"));
const library = packLibrary(packs);
const browser = await launchChromium();
for (const name of names) {
  const begun = Date.now();
  const { folder, said } = await build(name, library);
  console.log(`${name}: built in ${Math.round((Date.now() - begun) / 1000)} s in ${folder}\n${said}`);
  const app = await start(folder);
  const { steps, console: heard, html } = await visit(browser, app.origin);
  for (const [step, { shown, server, browser: own, status = "" }] of Object.entries(steps)) {
    console.log(
      `${step} ${status}\n  server: ${server.join(", ") || "-"}; browser: ${own.join(", ") || "-"}\n  ${JSON.stringify(shown)}`,
    );
  }
  console.log("console:", heard, "\ntwo visitors:", await twoVisitors(app.origin), html.list.length);
  console.log("server said:", app.said());
  await app.close();
  if (!process.env.KEEP) remove(folder);
}
await browser.close();
remove(packs);
