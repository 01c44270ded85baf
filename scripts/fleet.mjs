// `npm run fleet`: everything that is missing, then four processes of the board behind nginx, on Redis, under a made-up load.
// `npm run fleet -- --stay` goes on under a light load, for `cista fleet watch`.
import { setTimeout as pause } from "node:timers/promises";
import { nginxPath } from "./nginx.mjs";
import { installFromApt } from "./program.mjs";
import { build, fail, install } from "./ready.mjs";
import { redisPath } from "./redis.mjs";

const visits = 400;
const stays = process.argv.includes("--stay");

install();
if (!nginxPath()) installFromApt("nginx-light");
if (!redisPath()) installFromApt("redis-server");
if (!nginxPath()) fail("The fleet stands behind nginx: install it (on Debian: apt install nginx-light).");
if (!redisPath()) fail("The fleet shares through Redis: install it (on Debian: apt install redis-server).");
build();
const { askedOf, book, startFleet, visit } = await import("../examples/board-server/fleet/run.mjs");
const programs = { nginx: nginxPath(), redisServer: redisPath() };

console.log(`Four processes behind nginx, ${visits} pages each time: ten huts, two walkers in turns, 20 at once.\n`);
const alone = await startFleet({ ...programs, isShared: false });
const rows = [["", "pages", "in ms", "asked of the origin", "and for baskets"]];
try {
  askedOf(alone);
  await load(alone, "without sharing");
} finally {
  await alone.close();
}
const fleet = await startFleet(programs);
try {
  askedOf(fleet);
  await load(fleet, "sharing, cold");
  await load(fleet, "sharing, warm");
  const { status } = await book(fleet.url, "h-07", fleet.night);
  askedOf(fleet);
  await load(fleet, `after a booking at h-07 (${status})`);
  print();
  if (stays) await stay();
} finally {
  await fleet.close();
}

async function load(on, name) {
  const { whole, took } = await visit(on.url, visits);
  const { shared, baskets } = askedOf(on);
  rows.push([name, `${whole} of ${visits}`, String(took), String(shared), String(baskets)]);
}

function print() {
  const widths = rows[0].map((_, n) => Math.max(...rows.map((row) => row[n].length)));
  const line = (row) => row.map((cell, n) => (n === 0 ? cell.padEnd(widths[n]) : cell.padStart(widths[n]))).join("   ");
  console.log(rows.map(line).join("\n"));
}

async function stay() {
  console.log(`\nThe board: ${fleet.url}/hut/h-07`);
  console.log(`What its processes do: npx @cista/cli fleet watch --redis ${fleet.redisUrl}   (Ctrl-C here ends all)`);
  let isOver = false;
  for (const signal of ["SIGINT", "SIGTERM"]) process.on(signal, () => (isOver = true));
  for (let n = 0; !isOver; n++) {
    await visit(fleet.url, 40, 4);
    if (n % 8 === 7) await book(fleet.url, "h-07", `2027-01-${String(1 + (n % 28)).padStart(2, "0")}`);
    await pause(500);
  }
}
