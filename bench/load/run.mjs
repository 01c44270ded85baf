// `npm run bench:load`: two minutes of load on a server that renders a page of a hundred huts, beside the same page by hand.
// `npm run bench:load -- 20` for so many seconds. The two take turns, so that the machine's other work hits both.
import { fork } from "node:child_process";
import { once } from "node:events";
import { fileURLToPath } from "node:url";
import autocannon from "autocannon";

const seconds = Number(process.argv[2] ?? 120);
const turn = Math.max(1, Math.round(seconds / 24));
const turns = Math.round(seconds / turn / 2);
const connections = 10;
const ways = ["hand", "cista"];

const child = fork(fileURLToPath(new URL("server.mjs", import.meta.url)), {
  execArgv: ["--expose-gc", "--conditions=production"],
  env: { ...process.env, NODE_ENV: "production" },
});
const [{ port }] = await once(child, "message");
async function heap() {
  const told = once(child, "message");
  child.send("heap");
  return (await told)[0].heap;
}
const load = (way, duration) => autocannon({ url: `http://127.0.0.1:${port}/${way}`, connections, duration });
const median = (list) => [...list].sort((one, other) => one - other)[list.length >> 1];

try {
  for (const way of ways) await load(way, 2);
  const before = await heap();
  const rates = { hand: [], cista: [] };
  const late = { hand: [], cista: [] };
  let failed = 0;
  for (let n = 0; n < turns; n++) {
    for (const way of n % 2 ? ways : [...ways].reverse()) {
      const { requests, latency, non2xx, errors } = await load(way, turn);
      rates[way].push(requests.average);
      late[way].push(latency.p99);
      failed += non2xx + errors;
    }
  }
  const after = await heap();
  console.log("| A page of 100 huts under load | by hand | on a cache | ratio |\n|---|---|---|---|");
  const row = (title, { hand, cista }, unit) => {
    const [one, other] = [median(hand), median(cista)];
    console.log(`| ${title} | ${one.toFixed(0)}${unit} | ${other.toFixed(0)}${unit} | ${(other / one).toFixed(2)}× |`);
  };
  row("pages a second", rates, "");
  row("99th percentile", late, " ms");
  const megabytes = (bytes) => `${(bytes / 2 ** 20).toFixed(1)} MB`;
  console.log(
    `| heap at the beginning, and after ${turns * turn * 2} s | ${megabytes(before)} | ${megabytes(after)} | |`,
  );
  console.log(`| requests that failed | ${failed} | | |`);
} finally {
  child.kill();
}
