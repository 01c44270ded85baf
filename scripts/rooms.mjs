// Which room of packages/cista/src may import which: the one list of them. `npm run check` and the tests hold the code to it.
import { readdirSync, readFileSync } from "node:fs";
import { dirname, join, relative } from "node:path";
import { fileURLToPath, pathToFileURL } from "node:url";

export const src = fileURLToPath(new URL("../packages/cista/src", import.meta.url));

/** The core's doors: one for programs, and a few of the library's own, each for the rooms that need it. */
const doors = (...names) => ["core/index.ts", ...names.map((name) => `core/doors/${name}.ts`)];
/** The doors of each framework's room, beside that of a cache's clock. */
export const frameworks = {
  ...{ vue: [], preact: [], plain: [], lit: ["tools"] },
  ...{ svelte: ["readings"], solid: ["readings"], angular: ["readings", "tools"] },
};

/** Each room with all that it may import beside itself: rooms, or single files. Types count as anything else. */
export const rooms = {
  "core/api": { mayImport: [], because: "What programs are written against knows nothing of how it is done." },
  "core/lib": { mayImport: ["core/api"], because: "A tool knows nothing of entries." },
  "core/state": { mayImport: ["core/api", "core/lib"], because: "What is held knows nothing of what is done with it." },
  "core/kernel": {
    mayImport: ["core/api", "core/lib", "core/state"],
    because:
      "Every page runs the kernel: a feature is reached through a seam (core/state/links.ts, layers.ts, core.ts).",
  },
  "core/features": {
    mayImport: ["core/api", "core/lib", "core/state", "core/kernel"],
    because: "The core knows of no other room.",
  },
  core: {
    mayImport: ["core/api", "core/lib", "core/state", "core/kernel", "core/features"],
    because: "The core knows of no other room.",
  },
  "core/doors": {
    mayImport: ["core", "core/api", "core/lib", "core/state", "core/kernel", "core/features"],
    because: "A door hands on what the core has.",
  },
  cista: {
    mayImport: [...doors("caches"), "browser/environment.ts"],
    because: "It puts the core and the platform together.",
  },
  rehearsal: { mayImport: doors("caches", "tools"), because: "It stands around a cache by its interceptor alone." },
  browser: {
    mayImport: doors("answers", "caches", "kept-writes", "page", "readings", "sharing", "tools"),
    because: "Stores, tabs and outbox work with every framework.",
  },
  server: {
    mayImport: doors("caches", "page", "readings", "sharing", "tools"),
    because: "Pages are rendered with every framework.",
  },
  http: { mayImport: doors("answers", "changes", "tools"), because: "Answers out of responses know no framework." },
  fleet: {
    mayImport: [...doors("answers", "caches", "sharing", "tools"), "cista"],
    because: "Processes of a server show nothing.",
  },
  binding: { mayImport: doors("answers", "page", "readings", "tools"), because: "It knows no framework." },
  react: {
    mayImport: [...doors("caches", "page", "readings", "tools"), "binding", "cista", "http"],
    because: "A framework's room knows no other framework.",
  },
  ...Object.fromEntries(
    Object.entries(frameworks).map(([room, own]) => [
      room,
      {
        mayImport: [...doors("caches", ...own), "binding", "cista", "http"],
        because: "A framework's room knows no other framework.",
      },
    ]),
  ),
  lamp: { mayImport: [...doors(), "rehearsal"], because: "It is an element of its own, for every framework." },
};

/** The room of a file, by its path from `src`. */
export function roomOf(file) {
  if (/^core\/\w+\//.test(file)) return file.split("/").slice(0, 2).join("/");
  return file.includes("/") ? file.split("/")[0] : "cista";
}

/** The files of the library, by their paths from `src`. */
export function sourceFiles() {
  return readdirSync(src, { recursive: true, encoding: "utf8" })
    .map((file) => file.replaceAll("\\", "/"))
    .filter((file) => /\.tsx?$/.test(file) && !file.endsWith(".d.ts"))
    .sort();
}

/** What a file imports of the library, by the paths from `src`. */
export function importsOf(file, text = readFileSync(join(src, file), "utf8")) {
  return [...text.matchAll(/(?:from|import)\s*\(?\s*"(\.[^"]+)"/g)].map(([, path]) =>
    relative(src, join(src, dirname(file), path))
      .replaceAll("\\", "/")
      .replace(/\.js$/, ".ts"),
  );
}

/** What a file imports and may not, each in a sentence. */
export function forbiddenImports(file, text) {
  const room = roomOf(file);
  const known = rooms[room];
  if (!known) return [`${file}: the room "${room}" is not in scripts/rooms.mjs: add it, with what it may import.`];
  const { mayImport, because } = known;
  return importsOf(file, text)
    .filter((other) => roomOf(other) !== room && !mayImport.some((each) => each === other || each === roomOf(other)))
    .map(
      (other) => `${file} imports ${other}, and ${room} may import ${mayImport.join(", ") || "nothing"}. ${because}`,
    );
}

if (process.argv[1] && import.meta.url === pathToFileURL(process.argv[1]).href) {
  const found = sourceFiles().flatMap((file) => forbiddenImports(file));
  for (const each of found) console.error(each);
  if (found.length > 0) process.exitCode = 1;
}
