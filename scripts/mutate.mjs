// Breaks each numbered rule of the design in the code, one at a time, and prints which tests go red: `npm run mutate`.
// Works in a copy, so that the working tree stays as it is. A rule whose break stays green needs a test.
import { spawnSync } from "node:child_process";
import { cpSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, relative } from "node:path";
import { root } from "./ready.mjs";

const mutations = [
  [
    "R1",
    "asking.ts",
    "if (!activity.request) start(entry, cause, mode, asked);",
    "if (!activity.waiters || true) start(entry, cause, mode, asked);",
  ],
  ["R2 put supersedes", "asking.ts", "if (!entry.activity?.open || !outcome) drop(entry, note);", ""],
  ["R2 follow-up", "asking.ts", "if (outdated && (activity.waiters || activity.askers > 0))", "if (false)"],
  ["R2 late joiners", "asking.ts", "activity.request.began < entry.invalidatedAt) {", "false) {"],
  ["R3 abort", "watching.ts", "if (activity.request && !activity.pinned) giveUp", "if (false) giveUp"],
  [
    "R3 one macrotask",
    "turns.ts",
    "core.leaveTimer ??= core.clock.setTimer(() => {",
    "core.leaveTimer ??= ((run) => run())(() => {",
  ],
  ["R4", "watching.ts", "if (asked) activity.askers--;", ""],
  ["R5 jitter", "request.ts", "this.#plan.clock.random() * ceiling", "2 * ceiling"],
  ["R5 retryAfter", "request.ts", "failure.retryAfter ?? ", ""],
  ["R5 mistakes", "failure.ts", 'return kind === "load" && !isMistake(details.cause);', 'return kind === "load";'],
  ["R5 time-out", "request.ts", "abort.abort(failure);\n    this.#fail(failure);", "abort.abort(failure);"],
  ["R5 hurry", "asking.ts", "else if (endsPauses.has(cause)) activity.request.hurry();", ""],
  [
    "R6 offline",
    "request.ts",
    'if (this.#plan.settings.usesNetwork && !this.#plan.online()) this.#move("offline");\n    else this.#try();',
    "this.#try();",
  ],
  [
    "R6 composite",
    "asking.ts",
    "entry.links?.parts.length ? { ...settings, usesNetwork: false } : settings",
    "settings",
  ],
  ["R7 bucket", "budget.ts", "if (this.#tokens < 1) return false;", ""],
  ["R7 one turn", "budget.ts", "if (this.#turn === undefined) {", "{"],
  ["R7 culprit", "budget.ts", "return changing.length === 1 &&", "return false &&"],
  ["R8 undefined", "answer.ts", 'given.kind === "value" && given.value === undefined', "false"],
  ["R8 unchanged", "answer.ts", 'given.kind === "unchanged" && !holds', "false"],
  ["F1", "freshness.ts", 'if (age < policy.maxAge) return "fresh";', 'if (age <= policy.maxAge) return "fresh";'],
  ["F1 jump", "freshness.ts", "initialAge + Math.max(0, now - storedAt)", "initialAge + now - storedAt"],
  ["F2 behind", "reader.ts", "if (!entry.isFresh(now)) revalidateBehind(entry);", ""],
  ["F2 trigger", "watching.ts", 'return entry.shelf.settings.triggers.includes("attach");', "return true;"],
  ["F3 shown as it came", "entry.ts", "activity.cameStale = stale &&", "activity.cameStale = false &&"],
  [
    "F3 expired",
    "watching.ts",
    'record("expire", entry);\n    askByItself(entry, "expired");',
    'record("expire", entry);',
  ],
  [
    "F3 network while hidden",
    "watching.ts",
    "if (!core.environment.visible) return; // nobody looks",
    "// nobody looks",
  ],
  ["F3 made up for", "cache.ts", 'if (missed) wake(core, "online");', ""],
  ["N3 while nothing happens", "looking.ts", "entry.readUntil > now && ", ""],
  ["F3 hidden", "watching.ts", 'else if (cause === "expired") activity.owed = true;', ""],
  ["F4", "showing.ts", '(standing === "stale" || facts.shown)', 'standing === "stale"'],
  ["F5 newcomer", "entry.ts", 'if (this.isInvalidated) return "invalidated";', ""],
  [
    "F5 error",
    "asking.ts",
    'entry.held === "value" && !entry.isInvalidated && entry.coversError(now)',
    'entry.held === "value" && entry.coversError(now)',
  ],
  [
    "F6",
    "taking.ts",
    "else entry.hold(answer.kind,",
    'else if (answer.kind === "missing") entry.hold("missing", undefined, { maxAge: 0 }, began, now);\n  else entry.hold(answer.kind,',
  ],
  ["F7 details", "entry.ts", "policy: saysFreshness(details) ?", "policy: false ?"],
  ["F7 groups", "taking.ts", "...(details.groups ?? []), ...groups(value, entry.params)", "...(details.groups ?? [])"],
  [
    "F8 retain",
    "watching.ts",
    'if (entry.isIdle) evict(entry, "unused for as long as it is retained");',
    "if (false) {}",
  ],
  ["F8 capacity", "keeping.ts", "core.idle > core.capacity", "false"],
  ["F8 parts kept", "entry.ts", "&& !this.links?.dependents.size &&", "&&"],
  ["N1 order", "listeners.ts", "calls.sort((one, other) => one.order - other.order);", ""],
  [
    "N1 throwing",
    "listeners.ts",
    "thrown ??= [];\n        thrown.push(error);\n      }\n    }\n    this.#looping--;",
    "throw error;\n      }\n    }\n    this.#looping--;",
  ],
  ["N1 once", "listeners.ts", "while (i < end && this.#round === round)", "while (i < end)"],
  ["N2 share", "entry.ts", 'this.held === "value" && kind === "value" ? this.#shared(value) : value', "value"],
  ["N2 pick", "picking.ts", "return samePart(before, part) ? before : part;", "return part;"],
  ["N3", "looking.ts", "entry.isAsking || wantsRequest(entry, now)", "entry.isAsking"],
  [
    "N5",
    "schedule.ts",
    "if (moment < this.#next) this.#arm(moment);",
    "this.#clock.setTimer(() => this.#turn(), Math.max(0, moment - now));",
  ],
  ["D1 up", "dependencies.ts", "if (changed) review(dependent);", ""],
  [
    "D1 once",
    "turns.ts",
    "if (core.doubted.size === 0) queueMicrotask(() => settleAll(core, core.doubted, core.duties.settleDoubt));\n  core.doubted.add(entry);",
    "core.doubted.add(entry);\n  settleAll(core, core.doubted, core.duties.settleDoubt);",
  ],
  ["D1 check first", "loading.ts", "&& (await partsHold(reader)))", "&& false)"],
  [
    "D2 stale part",
    "loading.ts",
    "const known = part.isFresh(nowOf(core)) &&",
    'const known = part.held === "value" &&',
  ],
  [
    "D2 lifetime",
    "entry.ts",
    "return Math.min(this.#agedAt(0), this.links?.staleAt ?? Number.POSITIVE_INFINITY);",
    "return this.#agedAt(0);",
  ],
  ["D2 noStore", "taking.ts", '...(some("noStore") ? { noStore: true } : {}),', ""],
  [
    "D3",
    "loading.ts",
    'asked > 0 ? "asked" : "dependency", asked > 0 ? mode : undefined, asked',
    '"dependency", undefined, 0',
  ],
  ["D4", "loading.ts", "if (!ring) return;", "return;"],
  [
    "D5 retry",
    "asking.ts",
    "!activity.passedOn.has(failure) && settings.retry.when(failure)",
    "settings.retry.when(failure)",
  ],
  ["D5 time-out", "loading.ts", "awaited.add(part);\n  request.pause();", "awaited.add(part);"],
  [
    "D5 time-out of a check",
    "loading.ts",
    'await whileWaiting(reader, part.entry, () => broughtUpToDate(reader, part.entry, 0, "default").catch(() => {}));',
    'await broughtUpToDate(reader, part.entry, 0, "default").catch(() => {});',
  ],
  ["live fresh", "entry.ts", 'return this.activity?.open ? "fresh" : this.ageing(now);', "return this.ageing(now);"],
  [
    "live closes",
    "asking.ts",
    "} else if (activity.watchers === 0) {\n    leave(entry);",
    "} else if (activity.watchers === 0 && !activity.open) {\n    leave(entry);",
  ],
  ["S1 entry", "snapshot.ts", "if (!stored) dropped(core, entry);", "if (!stored) throw new Error(String(entry));"],
  ["S1 age", "snapshot.ts", "Math.max(0, core.clock.now() - takenAt)", "core.clock.now() - takenAt"],
  ["S1 partition", "snapshot.ts", "if (snapshot.partition !== core.options.partition) {", "if (false) {"],
  ["S1 capacity", "snapshot.ts", "entries.slice(0, room)", "entries"],
  ["S2", "snapshot.ts", "&& !entry.policy.noStore", ""],
  ["S3", "cache.ts", "core.schedule.stop();", ""],
  ["keys order", "key.ts", ".sort()", ""],
  ["W1 order", "layers.ts", "[...activity.layers, layer]", "[layer, ...activity.layers]"],
  [
    "W1 own layer only",
    "sending.ts",
    '({ write }) => write === laid, "lifted: taken back"',
    '() => true, "lifted: taken back"',
  ],
  ["W1 no trigger", "watching.ts", "|| activity.request || holdsStill(entry)) return;", "|| activity.request) return;"],
  ["W1 stays shown", "looking.ts", "asking: asking || holdsStill(entry)", "asking"],
  ["W2 until told", "layers.ts", "write.settledAt > 0 && write.settledAt < began", "write.settledAt > 0"],
  ["W2 lifted when told", "taking.ts", "liftTold(entry, began);", ""],
  ["W2 counts as invalidated", "sending.ts", "for (const entry of distrusted) distrust(entry, name);", ""],
  ["W2 may have worked", "sending.ts", 'failure.kind === "network" || failure.kind === "timeout"', "false"],
  [
    "W2 put in settle",
    "sending.ts",
    "const told = entry.version > laid.settledAt && !entry.isInvalidated;",
    "const told = false;",
  ],
  ["W2 an answer of before", "sending.ts", "(entry.watchers === 0 && !entry.request)", "entry.watchers === 0"],
  ["W4 no retry", "sending.ts", "retryPlan(retry ?? false)", "retryPlan(retry ?? {})"],
  ["W4 in order", "outbox.ts", "if (!next || this.#heldUnderWay ||", "if (!next ||"],
  ["W4 offline", "outbox.ts", "if (online && this.#held.length === 0) {", "if (true) {"],
  [
    "W4 lanes",
    "outbox.ts",
    "if (lane.push(run) === 1) this.#admit(run);",
    "lane.push(run);\n    if (true) this.#admit(run);",
  ],
  ["W3 groups", "invalidate.ts", 'stringList(headers.get("cache-group-invalidation"))', "undefined"],
  [
    "W3 own origin",
    "invalidate.ts",
    "for (const label of labels) if (new URL(label).origin !== target.origin) labels.delete(label);",
    "",
  ],
  ["W3 refused", "invalidate.ts", "|| status < 200 || status > 399", ""],
  ["keys names", "shelf.ts", "if (old && !inDevelopment()) {", "if (false) {"],
];

const wanted = process.argv.slice(2);
const src = "packages/cista/src";
const paths = ["core", "http"].flatMap((room) =>
  readdirSync(join(root, src, room), { recursive: true, withFileTypes: true }),
);
const placeOf = (file) => join(relative(root, paths.find(({ name }) => name === file).parentPath), file);
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
  // Line breaks and indentation are the formatter's business.
  const pattern = new RegExp(
    from
      .split(/\s+/)
      .map((word) => word.replace(/[.*+?^${}()|[\]\\]/g, "\\$&"))
      .join("\\s*"),
    "g",
  );
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
  const red = failing();
  writeFileSync(path, code);
  if (red.length === 0) green++;
  const shown = red.slice(0, 3).map((title) => title.slice(0, 90));
  console.log(
    `| ${rule} | ${file} | ${red.length === 0 ? "**none**" : `${shown.join("; ")}${red.length > 3 ? `; and ${red.length - 3} more` : ""}`} |`,
  );
}
rmSync(copy, { recursive: true, force: true });
if (green > 0) process.exitCode = 1;

function failing() {
  const out = join(copy, "result.json");
  rmSync(out, { force: true });
  const args = [
    "vitest",
    "run",
    "--project",
    "node",
    "packages/cista/test",
    "--exclude",
    "**/soak.test.ts",
    "--reporter",
    "json",
    "--outputFile",
    out,
    "--testTimeout",
    "8000",
  ];
  spawnSync("npx", args, {
    cwd: copy,
    stdio: "ignore",
    timeout: 90_000,
    env: { ...process.env, PROVE_RUNS: "1500", PROVE_SEED: "1", PROVE_QUICK: "1" },
  });
  try {
    const { testResults } = JSON.parse(readFileSync(out, "utf8"));
    return testResults.flatMap(({ assertionResults }) =>
      assertionResults.filter(({ status }) => status === "failed").map(({ title }) => title),
    );
  } catch {
    return ["(the run hangs or does not start)"];
  }
}
