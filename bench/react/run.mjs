// `npm run bench:react`: a thousand components on one key and on a thousand keys, in real Chromium, against the same page
// on plain React state, in turns in one run.
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import { launchChromium } from "../../scripts/browser.mjs";

const { outputFiles } = await build({
  entryPoints: [fileURLToPath(new URL("page.tsx", import.meta.url))],
  bundle: true,
  format: "esm",
  jsx: "automatic",
  write: false,
  minify: true,
  define: { "process.env.NODE_ENV": '"production"' },
  tsconfigRaw: {}, // the package as it is published, not its sources
  logLevel: "error",
});
const browser = await launchChromium();
try {
  const page = await browser.newPage();
  await page.addScriptTag({ content: outputFiles[0].text, type: "module" });
  await page.waitForFunction(() => "ratios" in window);
  const one = await page.evaluate(() => window.ratios(1, 80));
  const bare = await page.evaluate(() => window.ratios(1, 80, true));
  const many = await page.evaluate(() => window.ratios(1000, 40));
  const row = (id, title, baseline, figure, budget) =>
    console.log(
      `| ${id} | ${title} | ${baseline} | ${figure.toFixed(2)}× | ≤ ${budget}×${figure > budget ? " **missed**" : ""} |`,
    );
  row("P12a", "React: mount 1,000 components on one key", "plain React state", one.mount, 1.5);
  row("P12b", "React: one change that reaches all of them", "plain React state", one.change, 1.4);
  console.log(
    `| | … the same two by React's own hook for stores, on the same views | plain React state | ${bare.mount.toFixed(2)}×, ${bare.change.toFixed(2)}× | |`,
  );
  row("P13", "React: one of 1,000 keys changes", "state in the parent", many.change, 1);
} finally {
  await browser.close();
}
