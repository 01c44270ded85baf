// `npm run bench:react`: a thousand components on one key and on a thousand keys, in real Chromium, against the same page
// on plain React state: by the CPU time of the page's thread, in turns in one run.
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
const rounds = 40;
const warming = 4;
const sides = ["cache", "hook", "state"];
const steps = ["mount", "change", "unmount"];
const median = (list) => [...list].sort((one, other) => one - other)[list.length >> 1];

const browser = await launchChromium();
try {
  const page = await browser.newPage();
  await page.addScriptTag({ content: outputFiles[0].text, type: "module" });
  await page.waitForFunction(() => "bench" in window);
  const inspector = await page.context().newCDPSession(page);
  await inspector.send("Performance.enable", { timeDomain: "threadTicks" });
  const threadTime = async () => {
    const { metrics } = await inspector.send("Performance.getMetrics");
    return metrics.find(({ name }) => name === "ThreadTime").value;
  };

  /** Of each step its CPU time, for one side. */
  async function round(side, keys) {
    await page.evaluate(([side, keys]) => window.bench.prepare(side, keys), [side, keys]);
    const times = {};
    for (const step of steps) {
      const before = await threadTime();
      await page.evaluate((step) => window.bench[step](), step);
      times[step] = (await threadTime()) - before;
    }
    await page.evaluate(() => window.bench.end());
    return times;
  }

  /** Of each side and step the time over that of plain state: the median of the rounds' own ratios. */
  async function ratios(keys) {
    const all = Object.fromEntries(sides.map((side) => [side, Object.fromEntries(steps.map((step) => [step, []]))]));
    for (let n = 0; n < rounds + warming; n++) {
      const times = {};
      for (const side of n % 2 ? sides : [...sides].reverse()) times[side] = await round(side, keys);
      if (n < warming) continue;
      for (const side of sides) for (const step of steps) all[side][step].push(times[side][step] / times.state[step]);
    }
    return (side, step) => median(all[side][step]);
  }

  const row = (id, title, ratio, step, budget) => {
    const figure = ratio("cache", step);
    const least = ratio("hook", step).toFixed(2);
    const missed = figure > budget ? " **missed**" : "";
    console.log(`| ${id} | ${title} | plain React state | ${figure.toFixed(2)}× (${least}×) | ≤ ${budget}×${missed} |`);
  };
  console.log(
    "| # | Work | Baseline = 1× | Figure (React's own hook for stores, on the same views) | Budget |\n|---|---|---|---|---|",
  );
  const one = await ratios(1);
  row("P12a", "React: mount 1,000 components on one key", one, "mount", 1.3);
  row("P12b", "React: one change that reaches all of them", one, "change", 1.35);
  row("P12c", "React: unmount them", one, "unmount", 1.5);
  const many = await ratios(1000);
  row("P13a", "React: mount 1,000 components on 1,000 keys", many, "mount", 1.5);
  row("P13b", "React: one of 1,000 keys changes", many, "change", 1);
  row("P13c", "React: unmount them", many, "unmount", 1.5);
} finally {
  await browser.close();
}
