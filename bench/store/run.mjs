// `npm run bench:store`: a thousand entries stored and read back in real Chromium, against bare IndexedDB, in turns in one run.
import { build } from "esbuild";
import { here, withPage } from "../stage.mjs";

const { outputFiles } = await build({
  entryPoints: [here("store/page.ts")],
  bundle: true,
  format: "esm",
  write: false,
  minify: true,
  define: { "process.env.NODE_ENV": '"production"' },
  tsconfigRaw: {}, // the package as it is published, not its sources
  logLevel: "error",
});
await withPage(async (page) => {
  // A database belongs to an origin: an empty page of one.
  await page.route("http://huts.test/", (route) =>
    route.fulfill({ contentType: "text/html", body: "<!doctype html>" }),
  );
  await page.goto("http://huts.test/");
  await page.addScriptTag({ content: outputFiles[0].text, type: "module" });
  await page.waitForFunction(() => "ratios" in window);
  const { write, read } = await page.evaluate(() => window.ratios(21));
  const row = (id, title, baseline, figure) =>
    console.log(
      `| ${id} | ${title} | ${baseline} | ${figure.toFixed(2)}× | ≤ 1.5×${figure > 1.5 ? " **missed**" : ""} |`,
    );
  row("P16a", "store 1,000 changed entries", "1,000 puts in one transaction", write);
  row("P16b", "read them all", "getAll", read);
});
