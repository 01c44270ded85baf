// `npm run session`: the board with Cista and the board by hand, each driven through the same two minutes in a Chromium
// of its own, against an origin of its own that takes 100 to 250 ms to answer. Prints a table.
import { readdirSync, readFileSync } from "node:fs";
import { here, withFiles, withOrigin, withPage } from "../stage.mjs";
import { steps } from "./steps.mjs";

await withFiles(here("session/by-hand.tsx"), (byHandFiles) =>
  withFiles(here("session/with-cista.tsx"), (withCistaFiles) =>
    withOrigin((startOrigin) => compared(startOrigin, byHandFiles, withCistaFiles)),
  ),
);

async function compared(startOrigin, byHandFiles, withCistaFiles) {
  const files = [byHandFiles, withCistaFiles];
  const [byHand, withCista] = await Promise.all(files.map((each) => session(startOrigin, each)));
  Object.assign(byHand, { lines: lines("by-hand"), first: [] });
  Object.assign(withCista, { lines: lines("board-react"), first: [] });
  for (let turn = 0; turn < 15; turn++) {
    byHand.first.push(await firstData(startOrigin, byHandFiles));
    withCista.first.push(await firstData(startOrigin, withCistaFiles));
  }
  const row = (title, of) => console.log(`| ${title} | ${of(byHand)} | ${of(withCista)} |`);
  console.log("| Two minutes of the board | by hand | with Cista |\n|---|---|---|");
  row("requests", ({ requests }) => requests);
  row("of them for free bunks, which may be five seconds old", ({ bunks }) => bunks);
  row("of them answered 304", ({ notModified }) => notModified);
  row("of them aborted", ({ abandoned }) => abandoned);
  row("bytes of bodies", ({ bytes }) => bytes.toLocaleString("en"));
  row("React commits", ({ commits }) => commits);
  row(
    "from the first render until the hut is there, asked in 150 ms (median of fifteen, in turns)",
    ({ first }) => `${Math.round(first.toSorted((a, b) => a - b)[7])} ms`,
  );
  row("frames with another hut than the chosen one", ({ wrong }) => wrong);
  row("frames with two panels that disagree", ({ disagreeing }) => disagreeing);
  row("frames older than the server", ({ old, frames }) => `${old} of ${frames}`);
  row("lines of code, without what both draw with", ({ lines }) => lines);
  console.log("\n| Cista asked for | why, and how often |\n|---|---|");
  for (const [source, causes] of Object.entries(withCista.why)) {
    const each = Object.entries(causes).map(([cause, count]) => `${cause}: ${count}`);
    console.log(`| ${source} | ${each.join("; ")} |`);
  }
}

/** Milliseconds, in a new Chromium, on an origin that takes 150 ms to answer. */
async function firstData(startOrigin, files) {
  const origin = await startOrigin({ files });
  origin.faults.set({ path: "/api", latency: 150 });
  try {
    return await withPage(async (page) => {
      await page.goto(`${origin.url}/#h-07?route=r-4`);
      await page.waitForFunction(() => window.frames.firstHut > 0);
      return page.evaluate(() => window.frames.firstHut);
    });
  } finally {
    await origin.close();
  }
}

async function session(startOrigin, files) {
  const origin = await startOrigin({ files });
  origin.faults.set({ path: "/api", latency: 100, jitter: 150 });
  try {
    const frames = await withPage((page) => driven(page, origin));
    const { all, paths } = origin.tally.toJSON();
    const bunks = Object.entries(paths).filter(([path]) => path.endsWith("/bunks"));
    return { ...all, bunks: bunks.reduce((sum, [, { requests }]) => sum + requests, 0), ...frames };
  } finally {
    await origin.close();
  }
}

async function driven(page, origin) {
  const troubles = [];
  page.on("pageerror", (error) => troubles.push(error.message));
  const names = Object.fromEntries([...origin.world.huts.values()].map(({ id, name }) => [id, name]));
  await page.addInitScript((known) => Object.assign(window, { truth: { names: known, now: {} } }), names);
  const started = Date.now();
  for (const [second, step] of steps) {
    await new Promise((resolve) => setTimeout(resolve, Math.max(0, started + second * 1000 - Date.now())));
    await step(page, origin);
  }
  if (troubles.length > 0) throw new Error(troubles.join(", "));
  return page.evaluate(() => ({ ...window.frames, why: window.why }));
}

/** Of the example's own files, without blank lines, comments and what both pages share. */
function lines(example) {
  const folder = here(`../examples/${example}/src/`);
  const shared = /^(world|address|time|strip|tally|main|lamp\.d|css\.d)\./;
  return readdirSync(folder)
    .filter((file) => /\.tsx?$/.test(file) && !shared.test(file))
    .flatMap((file) => readFileSync(folder + file, "utf8").split("\n"))
    .filter((line) => line.trim() !== "" && !/^\s*(\/\/|\/?\*)/.test(line)).length;
}
