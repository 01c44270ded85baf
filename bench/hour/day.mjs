// `npm run day`: the board left alone for a simulated day, looked at now and then, and once without a network. Prints what
// it asked for, and why; `npm run day -- PATH.png` also takes a picture of what the page-wide lamp tells.
import { resolve } from "node:path";
import { onStage } from "./stage.mjs";

// Where npm was called, not where this script stands.
const picture = process.argv[2] && resolve(process.env.INIT_CWD ?? ".", process.argv[2]);

await onStage(day, { search: "?tally" });

async function day(page) {
  const parts = await page.evaluate(() => window.day());
  console.log("| A day of the board | for | requests, and why |\n|---|---|---|");
  for (const { title, length, asked } of parts) {
    const why = Object.entries(asked).map(([what, count]) => `${what}: ${count}`);
    console.log(`| ${title} | ${length} | ${why.join("; ") || "none"} |`);
  }
  if (!picture) return;
  await page.evaluate(() => window.openWideLamp());
  await page.screenshot({ path: picture });
}
