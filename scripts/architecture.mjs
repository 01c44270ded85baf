// Makes the picture and the tables of ARCHITECTURE.md from the code: `npm run architecture`. A test holds them against it.
// What is drawn is read off the imports; what is listed is looked for in the functions that are named.
import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { importsOf, roomOf, sourceFiles, src } from "./rooms.mjs";

const root = fileURLToPath(new URL("..", import.meta.url));
const read = (file) => readFileSync(join(src, file), "utf8");

// ── The rooms, and who imports whom ──────────────────────────────────────────

const files = sourceFiles();

/** How many imports lead from one room to another. */
function arrows() {
  const counts = new Map();
  for (const file of files) {
    for (const other of importsOf(file)) {
      const [from, to] = [roomOf(file), roomOf(other)];
      if (from !== to) counts.set(`${from} ${to}`, (counts.get(`${from} ${to}`) ?? 0) + 1);
    }
  }
  return counts;
}

const rows = [
  ["react", "vue", "svelte", "solid", "angular", "lit", "preact", "plain"],
  ["binding", "http", "browser", "server", "fleet", "lamp", "rehearsal"],
  ["core/doors", "core"],
  ["core/features"],
  ["core/kernel"],
  ["core/state"],
  ["core/lib"],
  ["core/api"],
];
const says = {
  react: "hooks",
  vue: "composables",
  svelte: "runes",
  solid: "primitives",
  angular: "signals",
  lit: "controllers",
  preact: "hooks",
  plain: "no framework",
  binding: "what all share",
  http: "HTTP answers",
  browser: "store and tabs",
  server: "pages with data",
  fleet: "processes share",
  lamp: "inspector",
  rehearsal: "fault simulation",
  "core/doors": "what the library's own rooms need of the core",
  core: "the cache, and the door for programs: index.ts",
  "core/features": "what only some programs use: nothing below imports it",
  "core/kernel": "what every page runs: it asks, loads, takes an answer, shows it, keeps it",
  "core/state": "what is held, and the seams",
  "core/lib": "tools that know nothing of entries",
  "core/api": "what programs are written against",
};

const filesIn = (room) =>
  files
    .filter((file) => roomOf(file) === room && !file.endsWith("/index.ts"))
    .map((file) => file.slice(room.length + 1).replace(/\.tsx?$/, ""));

/** Folders with how many files are in them. */
function inShort(room) {
  const counts = new Map();
  for (const name of filesIn(room)) {
    const [first, rest] = name.split("/");
    counts.set(rest ? `${first}/` : first, (counts.get(rest ? `${first}/` : first) ?? 0) + 1);
  }
  return [...counts].map(([name, count]) => (name.endsWith("/") ? `${name} (${count})` : name));
}

export function picture() {
  const counts = arrows();
  const width = 980;
  const parts = [];
  let y = 16;
  for (const row of rows) {
    const each = (width - 32 - (row.length - 1) * 12) / row.length;
    const boxes = row.map((room, at) => {
      const names = row.length > 7 ? [`${filesIn(room).length} files`] : row.length > 1 ? inShort(room) : filesIn(room);
      return { room, x: 16 + at * (each + 12), lines: wrap(names.join("  "), Math.floor((each - 24) / 6.9)) };
    });
    const height = 58 + Math.max(...boxes.map(({ lines }) => lines.length)) * 16;
    for (const { room, x, lines } of boxes) parts.push(box(room, x, y, each, height, lines));
    y += height;
    const next = rows[rows.indexOf(row) + 1];
    if (next) parts.push(...fall(row, rows.slice(rows.indexOf(row) + 1).flat(), counts, each, y));
    y += 34;
  }
  return `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ${width} ${y - 18}" font-family="system-ui, sans-serif" font-size="13">
<title>The rooms of Cista: imports go down only</title>
<rect width="${width}" height="${y - 18}" fill="#fff"/>
${parts.join("\n")}
</svg>
`;
}

function box(room, x, y, width, height, lines) {
  const text = lines.map(
    (line, at) => `<text x="${x + 12}" y="${y + 62 + at * 16}" fill="#555" font-size="11.5">${line}</text>`,
  );
  return `<rect x="${x}" y="${y}" width="${width}" height="${height}" rx="6" fill="#f4f6f8" stroke="#7a8794"/>
<text x="${x + 12}" y="${y + 22}" font-weight="600" fill="#1c2733">${room}</text>
<text x="${x + 12}" y="${y + 40}" fill="#1c2733">${says[room]}</text>
${text.join("\n")}`;
}

/** One arrow below each box, with where its imports lead. */
function fall(row, below, counts, each, y) {
  const led = row.map((room) => below.filter((other) => counts.has(`${room} ${other}`)).join(", "));
  const isSame = row.length > 1 && led.every((each) => each === led[0]);
  return row.map((_, at) => {
    const x = 16 + at * (each + 12) + 26;
    if (isSame && at > 0) return ""; // one arrow for all
    const text = led[at].replaceAll("core/", "");
    return `<path d="M${x} ${y + 3}v22m-4 -6l4 6 4 -6" fill="none" stroke="#7a8794" stroke-width="1.5"/><text x="${x + 12}" y="${y + 20}" fill="#555" font-size="11.5">${isSame ? `each: ${text}` : text}</text>`;
  });
}

function wrap(text, length) {
  const lines = [""];
  for (const word of text.split("  ")) {
    if (`${lines.at(-1)}${word}`.length > length) lines.push("");
    lines[lines.length - 1] += `${lines.at(-1) ? ",  " : ""}${word}`;
  }
  return lines;
}

// ── The ways through the code: each step is looked for in the function before it ──

const walks = {
  read: [
    ["react/use-reading.ts", "useReadingOn", "a component looks at the reading; it attaches before the browser paints"],
    ["core/kernel/view.ts", "subscribe", "the view of the entry", false],
    ["core/kernel/view.ts", "#attach", "the first listener attaches the view"],
    [
      "core/kernel/watching.ts",
      "attach",
      "a fresh value needs no request; a stale one by the triggers (F2)",
      "attach(",
    ],
    ["core/kernel/asking.ts", "startRequest", "the request of the entry, within its budget (R1, R7)"],
    ["core/lib/request.ts", "start", "waits for a network (R6)"],
    ["core/lib/request.ts", "#try", "one try, with its time-out (R5)"],
    ["core/lib/request.ts", "#load", "calls the load once the batch is consistent"],
    ["core/kernel/loading.ts", "load", "through the interceptors; over HTTP this is `http/load.ts`", "load("],
    [
      "core/kernel/asking.ts",
      "takeAnswer",
      "back: the answer, checked; follow-ups of an invalidation meanwhile (R2)",
      false,
    ],
    ["core/kernel/taking.ts", "applyAnswer", "holds it with its freshness, groups and validator (F6, F7)"],
    [
      "core/kernel/looking.ts",
      "refresh",
      "at the end of the batch the reading is made anew, and the component is told (N1)",
      false,
    ],
  ],
  write: [
    ["core/cache.ts", "run", "`cache.run(write, input)`, or the `run` of a component"],
    ["core/features/writing/write.ts", "addLayers", "`optimistic` lays the layers of the run, at once (W1)", false],
    ["core/features/writing/layers.ts", "addLayer", "a layer over one held value; its reading is made anew"],
    ["core/features/writing/sending.ts", "runWrite", "the run waits for its lane (W4)", false],
    ["core/features/writing/sending.ts", "send", "its request: tries, time-out, Idempotency-Key", false],
    ["http/send.ts", "send", "over HTTP: the request, its problem, the groups that the answer names (W3)", false],
    ["core/features/writing/sending.ts", "#answered", "back: the result", false],
    ["core/features/writing/sending.ts", "#end", "the layers are settled; in the same batch:"],
    [
      "core/features/writing/sending.ts",
      "#onSuccess",
      "`invalidates`, then `onSuccess`; or `#onRefusal` takes the layers back",
      false,
    ],
    [
      "core/features/writing/sending.ts",
      "#invalidate",
      "the entries beneath the layers, and those that were named (W2)",
    ],
    ["core/features/changing/changing.ts", "markInvalidated", "each of them; watched ones are requested anew"],
    ["core/kernel/taking.ts", "applyAnswer", "their answers take the settled layers away", false],
  ],
  invalidation: [
    ["core/cache.ts", "invalidate", "`cache.invalidate(selector)`"],
    ["core/features/changing/selector.ts", "selected", "the entries that the selector means", false],
    ["core/features/changing/changing.ts", "invalidate", "each entry, in one batch", false],
    ["core/features/changing/changing.ts", "markInvalidated", "notes the version of the invalidation (F5)"],
    ["core/features/composite/dependencies.ts", "tellDependents", "composites above it are invalidated too (D1)"],
    ["core/kernel/asking.ts", "requestIfWatched", "watched entries are requested, past the caches on the way", false],
    ["core/kernel/asking.ts", "startRequest", "on as in the way of a reading", "equest("],
    ["core/features/changing/change-listeners.ts", "tellChange", "the other tabs are told, and a fleet (B3)", false],
    ["core/state/batches.ts", "closeBatch", "last, the watchers whose reading has changed are told", false],
  ],
  page: [
    ["server/page.ts", "show", "the server: a component is rendered, or `page.show(source, params)`"],
    ["server/page.ts", "of", "a reading that is not there yet is waited for (H6)"],
    ["server/page.ts", "#show", "the value that is shown is the value that is sent (H1)", false],
    ["server/page.ts", "html", "the values since the last burst, as an element", false],
    ["server/page.ts", "json", "what is private to the server or a user stays (H5)"],
    ["server/streams.ts", "betweenBursts", "between the bursts of the renderer (H12)", false],
    ["browser/receive.ts", "#takeIn", "the browser: `receivePage(cache)` reads the elements (H9)", false],
    ["browser/receive.ts", "#take", "their age: no older than the visit (H3)"],
    ["core/features/storing/restoring.ts", "restoreWith", "each member is checked (S1)"],
    ["core/features/storing/restoring.ts", "restoreEntry", "the younger of held and restored counts", false],
    ["browser/receive.ts", "of", "a component that is hydrated shows what was sent (H1)", false],
    ["core/kernel/watching.ts", "attach", "from then on as in the way of a reading", false],
  ],
  batch: [
    ["core/state/batches.ts", "batch", "a change of state; batches inside are part of it"],
    ["core/state/batches.ts", "closeBatch", "when the outermost one ends, until nothing is left to do:"],
    ["core/state/batches.ts", "takeOverdue", "each overdue entry:"],
    ["core/kernel/watching.ts", "onDue", "it turns stale or expires (F3)", "onDue"],
    ["core/state/batches.ts", "refreshDirty", "each dirty entry:", false],
    ["core/kernel/looking.ts", "refresh", "its reading (N1) and its next moment (F8)", "refresh("],
    ["core/state/batches.ts", "runAfterChange", "foreign code: loads, listeners of signals", false],
    ["core/lib/recorder.ts", "tell", "the journal's listeners", false],
    ["core/state/batches.ts", "notifyNow", "last, the watchers whose reading changed", false],
    ["core/lib/listeners.ts", "callAll", "each once, in the order of subscription"],
  ],
};

/** The source text of a function or method. */
function bodyOf(file, name) {
  const text = read(file);
  const start = text.search(
    new RegExp(`^(?:export )?(?:async )?function ${name}[(<]|^ {2}(?:async )?${name}\\([^;]*\\{$`, "m"),
  );
  if (start < 0)
    throw new Error(`ARCHITECTURE: there is no ${name} in ${file}. Mend the walk in scripts/architecture.mjs.`);
  const end = text.startsWith("  ", start) ? /\n {2}\}\n/ : /\n\}\n/;
  return text.slice(start, start + text.slice(start).search(end));
}

function walk(steps) {
  return steps.map(([file, name, what, call = `${name}`], at) => {
    bodyOf(file, name);
    const before = steps[at - 1];
    if (before && call !== false && !bodyOf(before[0], before[1]).includes(call)) {
      throw new Error(
        `ARCHITECTURE: ${before[1]} in ${before[0]} no longer leads to ${name}. Mend the walk in scripts/architecture.mjs.`,
      );
    }
    return `| ${at + 1} | \`${name}\` | \`${file}\` | ${what} |`;
  });
}

/** The phases of a request, and who moves it there. */
function phases() {
  const text = read("core/lib/request.ts");
  const names = [
    ...read("core/api/reading.ts")
      .match(/RequestPhase =([^;]+);/)[1]
      .matchAll(/"(\w+)"/g),
  ].map(([, name]) => name);
  const methods = [...text.matchAll(/^ {2}(#?\w+)\([^)]*\)[^{;]*\{\n([\s\S]*?)\n {2}\}$/gm)];
  const movers = (phase) =>
    methods
      .filter(([, , body]) => body.includes(`#move("${phase}")`) || body.includes(`this.phase = "${phase}"`))
      .map(([, name]) => `\`${name}\``);
  const means = {
    none: "no load is under way: not begun, over, or a stream that is open",
    running: "a try is under way",
    waiting: "a pause between two tries, or held back by the request budget",
    offline: "waits for a network",
  };
  return names.map((name) => `| \`${name}\` | ${means[name]} | ${movers(name).join(", ")} |`);
}

const head = "| | Function | File | What happens |\n|---|---|---|---|";
export const tables = () => ({
  read: [head, ...walk(walks.read)].join("\n"),
  write: [head, ...walk(walks.write)].join("\n"),
  invalidation: [head, ...walk(walks.invalidation)].join("\n"),
  page: [head, ...walk(walks.page)].join("\n"),
  phases: ["| Phase | | Moved there by |", "|---|---|---|", ...phases()].join("\n"),
  batch: [head, ...walk(walks.batch)].join("\n"),
});

/** The page with its tables made anew. */
export function withTables(page) {
  return Object.entries(tables()).reduce(
    (text, [name, table]) =>
      text.replace(
        new RegExp(`(<!-- ${name} -->\\n)[\\s\\S]*?(<!-- / -->)`),
        (_, open, close) => `${open}\n${table}\n\n${close}`,
      ),
    page,
  );
}

export const paths = { picture: join(root, "docs/architecture.svg"), page: join(root, "ARCHITECTURE.md") };

if (process.argv[1] === fileURLToPath(import.meta.url)) {
  writeFileSync(paths.picture, picture());
  writeFileSync(paths.page, withTables(readFileSync(paths.page, "utf8")));
}
