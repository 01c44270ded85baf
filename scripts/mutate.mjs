// Breaks each rule of docs/rules.md in the code, one at a time, and prints which tests go red: `npm run mutate`.
// `--worlds` leaves it to the random programs alone. Works in a copy, so that the working tree stays as it is. A rule whose break stays green needs a test.
import { spawn } from "node:child_process";
import { once } from "node:events";
import { cpSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, relative } from "node:path";
import { mutations, patternOf } from "./mutations/index.mjs";
import { root } from "./ready.mjs";
import { frameworks } from "./rooms.mjs";

const wanted = process.argv.slice(2).filter((word) => word !== "--worlds");
/** Only the random programs are to see it: `npm run mutate -- --worlds D1`. */
const onlyWorlds = process.argv.includes("--worlds");
const src = "packages/cista/src";
const bindings = ["react", ...Object.keys(frameworks)];
const paths = ["core", "http", "server", "fleet", "browser", "binding", ...bindings].flatMap((room) =>
  readdirSync(join(root, src, room), { recursive: true, withFileTypes: true }),
);
const all = paths.map(({ name, parentPath }) => join(relative(root, parentPath), name));
const placeOf = (file) => all.find((path) => path.endsWith(`/${file}`));
/** The library's tests in Node, without those that are only about time and chance. */
const tests = readdirSync(join(root, "packages/cista/test"))
  .filter((file) => /^(?!soak|fuzz|rules|mistakes)[\w-]+\.test\.ts$/.test(file))
  .map((file) => `packages/cista/test/${file}`);
/** Joined tabs and kept writes have a world of their own. */
const tabTests = [
  "tabs/tabs.test.ts",
  "tabs/away.test.ts",
  "tabs/streams.test.ts",
  "tabs/hostile-tabs.test.ts",
  "tabs/outbox.test.ts",
  "tabs/outbox-users.test.ts",
  "tabs/users.test.ts",
  "restored.test.ts",
  "outbox-any-order.test.ts",
  "tabs-any-order.test.ts",
].map((file) => `packages/cista/test/${file}`);
/** A fleet too; what is broken in Redis' scripts a real Redis is to see. */
const fleetTests = [
  "fleet/fleet.test.ts",
  "fleet/caches.test.ts",
  "fleet/shared-use.test.ts",
  "fleet-any-order.test.ts",
  "fleet/poisoned-redis.e2e.test.ts",
].map((file) => `packages/cista/test/${file}`);
/** What is broken in another room, the tests that open pages are to see. */
const pageTests = [
  "page-parts.test.ts",
  "brought.test.ts",
  "restored.test.ts",
  "page-receive.browser.test.ts",
  "react.browser.test.tsx",
  "page/page.e2e.test.ts",
  "frameworks/hydration.e2e.test.ts",
].map((file) => `packages/cista/test/${file}`);
/** Random programs beside the model, and in worlds of tabs, users, servers and fleets: those that reach a room. */
function worldsFor(path) {
  const inRoom = () => {
    if (path.includes("/fleet/redis/")) return ["fleet/redis-any-order.e2e"];
    if (path.includes("/fleet/") || path.endsWith("/shared-use.ts")) return ["fleet-any-order"];
    if (/\/(server|react|binding)\/|receive\.ts$/.test(path)) return ["server-any-order", "page-any-order"];
    if (path.includes("/http/")) return ["lists-any-order", "users-any-order", "identity-any-order", "page-any-order"];
    const tabs = ["users-any-order", "tabs-any-order", "identity-any-order", "page-any-order", "lists-any-order"];
    if (/\/outbox\/|\/laying\.ts$/.test(path)) return ["outbox-any-order", ...tabs];
    if (/\/browser\//.test(path)) return tabs;
    return [
      "composites-any-order",
      "model",
      "invariants",
      "writes-any-order",
      "lists-any-order",
      "server-any-order",
      ...tabs,
    ];
  };
  return inRoom().map((name) => `packages/cista/test/${name}.test.ts`);
}

/** What is broken in the core, the core's own tests are to see. */
function testsFor(path, rule) {
  // What is broken in a binding, the suite of all bindings is to see.
  const binding = bindings.find((room) => path.includes(`/src/${room}/`));
  if (binding && /^[RN]/.test(rule)) {
    const alone = binding === "vue" ? ["frameworks/kept-alive.framework.test.ts"] : [];
    return [`conformance/${binding}.framework.test.ts`, ...alone].map((file) => `packages/cista/test/${file}`);
  }
  if (onlyWorlds) return worldsFor(path);
  if (path.endsWith("/feeding.ts"))
    return ["store.browser", "restored", "opening-store"].map((name) => `packages/cista/test/${name}.test.ts`);
  // Only a browser has a database that is deleted under a page.
  if (path.endsWith("/outbox/records.ts")) return [...tabTests, "packages/cista/test/tabs/stored.browser.test.ts"];
  if (/\/browser\/(tabs|outbox)\//.test(path) || /(adopting|change-listeners|laying)\.ts$/.test(path)) return tabTests;
  // Joined tabs tell each other in the form of a snapshot; and who asks decides what is shown and sent of kept writes.
  if (/\/(snapshot|asker)\.ts$/.test(path)) return [...tabTests, ...tests];
  if (path.includes("/fleet/redis/")) {
    return ["redis", "redis-any-order", "processes", "poisoned-redis"].map(
      (name) => `packages/cista/test/fleet/${name}.e2e.test.ts`,
    );
  }
  if (path.includes("/fleet/") || path.endsWith("/shared-use.ts")) return fleetTests;
  if (path.endsWith("/kernel/loading.ts")) return [...fleetTests, ...tests.filter((file) => !/\/http/.test(file))];
  if (/\/(server|browser|binding|react)\//.test(path)) return pageTests;
  return tests.filter((file) => !path.includes("/core/") || !/\/http/.test(file));
}
const copy = mkdtempSync(join(tmpdir(), "cista-mutate-"));
for (const part of [
  "packages",
  "examples",
  "scripts",
  "vitest.config.ts",
  "package.json",
  "tsconfig.base.json",
  "tsconfig.json",
]) {
  cpSync(join(root, part), join(copy, part), {
    recursive: true,
    filter: (path) => !/node_modules|[\\/]dist$/.test(path),
  });
}
symlinkSync(join(root, "node_modules"), join(copy, "node_modules"));

console.log("| Rule | Broken in | Red |\n|---|---|---|");
let green = 0;
for (const [rule, file, from, to] of mutations) {
  if (wanted.length > 0 && !wanted.some((word) => rule.startsWith(word))) continue;
  const path = join(copy, placeOf(file));
  const code = readFileSync(path, "utf8");
  const pattern = patternOf(from);
  const found = code.match(pattern)?.length ?? 0;
  if (found !== 1) {
    console.log(`| ${rule} | ${file} | the code to break stands there ${found} times |`);
    green++;
    continue;
  }
  writeFileSync(
    path,
    code.replace(pattern, () => to),
  );
  const red = await failing(path, rule);
  writeFileSync(path, code);
  if (red.length === 0) green++;
  const shown = red.slice(0, 3).map((title) => title.slice(0, 90));
  console.log(
    `| ${rule} | ${file} | ${red.length === 0 ? "**none**" : `${shown.join("; ")}${red.length > 3 ? `; and ${red.length - 3} more` : ""}`} |`,
  );
}
rmSync(copy, { recursive: true, force: true });
if (green > 0) process.exitCode = 1;

async function failing(path, rule) {
  const out = join(copy, "result.json");
  rmSync(out, { force: true });
  const args = [
    "vitest",
    "run",
    ...["node", "browser", "frameworks", "whole"].flatMap((project) => ["--project", project]),
    ...testsFor(path, rule),
    ...(onlyWorlds ? ["--testNamePattern", "seed|random|any order|in the end"] : []),
    "--bail",
    "1",
    "--reporter",
    "json",
    "--outputFile",
    out,
    "--testTimeout",
    "60000",
  ];
  const env = { ...process.env, PROVE_RUNS: onlyWorlds ? "6000" : "1500", PROVE_SEED: "1", PROVE_QUICK: "1" };
  const child = spawn("npx", args, { cwd: copy, stdio: "ignore", detached: true, env });
  const end = once(child, "close").catch(() => {});
  // The whole group: a worker that runs in circles hears nothing, and would go on by itself.
  const tooLong = setTimeout(() => process.kill(-child.pid, "SIGKILL"), onlyWorlds ? 600_000 : 150_000);
  await end;
  clearTimeout(tooLong);
  try {
    const { testResults } = JSON.parse(readFileSync(out, "utf8"));
    if (testResults.every(({ assertionResults }) => assertionResults.length === 0)) return ["(it does not compile)"];
    return testResults.flatMap(({ assertionResults }) =>
      assertionResults.filter(({ status }) => status === "failed").map(({ title }) => title),
    );
  } catch {
    return ["(the run hangs or does not start)"];
  }
}
