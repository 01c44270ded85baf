import { execFileSync, spawnSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, renameSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { stripVTControlCharacters } from "node:util";
import { afterAll, beforeAll, expect, test } from "vitest";

// The package as npm packs it, in an empty project of each framework, with that framework's own check of its templates: of a
// good one and a bad one side by side only the bad one is refused, where it is wrong, and nothing else: the library's
// declarations are checked too.

const root = fileURLToPath(new URL("../../../..", import.meta.url));
let folder: string;
const at = (...path: string[]) => join(folder, ...path);

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), "cista-frameworks-"));
  const options = ["pack", "--json", "--ignore-scripts", "--pack-destination", folder];
  const packed = execFileSync("npm", options, {
    cwd: join(root, "packages/cista"),
    encoding: "utf8",
    stdio: ["ignore", "pipe", "ignore"],
  });
  const [{ filename }] = JSON.parse(packed);
  mkdirSync(at("cista"));
  execFileSync("tar", ["xzf", at(filename), "--strip-components=1", "-C", at("cista")]);
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

interface Project {
  readonly framework: string;
  /** What is installed beside the library. */
  readonly packages: readonly string[];
  readonly compilerOptions?: object;
  readonly angularCompilerOptions?: object;
  readonly check: readonly [program: string, ...words: string[]];
  /** The file that holds a template, and what stands in it, with MEMBER for the member of a hut that it shows. */
  readonly file: string;
  readonly text: string;
}

const source = `import { createCache, source } from "cista";
export const hut = source({ name: "hut", load: async ({ id }: { id: string }) => ({ id, water: 90 }) });
export const cache = createCache();
`;

const projects: readonly Project[] = [
  {
    framework: "vue",
    packages: ["vue"],
    check: ["vue-tsc/bin/vue-tsc.js", "--noEmit"],
    file: "Hut.vue",
    text: `<script setup lang="ts">
import { useReading } from "cista/vue";
import { hut } from "./hut.js";
const props = defineProps<{ id: string }>();
const reading = useReading(hut, () => ({ id: props.id }));
</script>
<template><p v-if="reading.state === 'ready'">{{ reading.value.MEMBER }}</p><p v-else>{{ reading.state }}</p></template>`,
  },
  {
    framework: "svelte",
    packages: ["svelte"],
    check: ["svelte-check/bin/svelte-check", "--tsconfig", "./tsconfig.json", "--output", "machine"],
    file: "Hut.svelte",
    text: `<script lang="ts">
  import { useReading } from "cista/svelte";
  import { hut } from "./hut.js";
  const { id }: { id: string } = $props();
  const reading = useReading(hut, () => ({ id }));
</script>
{#if reading.state === "ready"}<p>{reading.value.MEMBER}</p>{:else}<p>{reading.state}</p>{/if}`,
  },
  {
    framework: "solid",
    packages: ["solid-js"],
    compilerOptions: { jsx: "preserve", jsxImportSource: "solid-js" },
    check: ["typescript/bin/tsc", "--noEmit"],
    file: "hut-panel.tsx",
    text: `import { createReading } from "cista/solid";
import { Match, Switch } from "solid-js";
import { hut } from "./hut.js";
export function Hut(props: { id: string }) {
  const reading = createReading(hut, () => ({ id: props.id }));
  return <Switch fallback={<p>{reading.state}</p>}><Match when={reading.state === "ready" && reading.value}>{(value) => <p>{value().MEMBER}</p>}</Match></Switch>;
}`,
  },
  {
    framework: "angular",
    packages: ["@angular/core", "@angular/common", "@angular/compiler", "@angular/platform-browser", "rxjs", "tslib"],
    compilerOptions: { experimentalDecorators: true },
    angularCompilerOptions: { strictTemplates: true },
    check: ["@angular/compiler-cli/bundles/src/bin/ngc.js", "-p", "tsconfig.json", "--noEmit"],
    file: "hut-panel.ts",
    text: `import { Component, input } from "@angular/core";
import { injectReading } from "cista/angular";
import { hut } from "./hut.js";
@Component({ selector: "hut-panel", template: \`@let reading = hut(); @if (reading.state === "ready") { {{ reading.value.MEMBER }} } @else { {{ reading.state }} }\` })
export class HutPanel {
  readonly id = input.required<string>();
  readonly hut = injectReading(hut, () => ({ id: this.id() }));
}`,
  },
  {
    framework: "lit",
    packages: ["lit", "lit-html", "lit-element", "@lit/reactive-element", "@types/trusted-types"],
    check: ["typescript/bin/tsc", "--noEmit"],
    file: "hut-panel.ts",
    text: `import { ReadingController } from "cista/lit";
import { html, LitElement } from "lit";
import { hut } from "./hut.js";
export class HutPanel extends LitElement {
  hutId = "h-07";
  readonly #hut = new ReadingController(this, hut, () => ({ id: this.hutId }));
  override render() {
    const { reading } = this.#hut;
    return reading.state === "ready" ? html\`<p>\${reading.value.MEMBER}</p>\` : html\`<p>\${reading.state}</p>\`;
  }
}`,
  },
  {
    framework: "preact",
    packages: ["preact"],
    compilerOptions: { jsx: "react-jsx", jsxImportSource: "preact" },
    check: ["typescript/bin/tsc", "--noEmit"],
    file: "hut-panel.tsx",
    text: `import { useReading } from "cista/preact";
import { hut } from "./hut.js";
export function Hut({ id }: { id: string }) {
  const reading = useReading(hut, { id });
  return reading.state === "ready" ? <p>{reading.value.MEMBER}</p> : <p>{reading.state}</p>;
}`,
  },
  {
    framework: "react",
    packages: ["react", "@types/react", "csstype"],
    compilerOptions: { jsx: "react-jsx" },
    check: ["typescript/bin/tsc", "--noEmit"],
    file: "hut-panel.tsx",
    text: `import { useReading } from "cista/react";
import { hut } from "./hut.js";
export function Hut({ id }: { id: string }) {
  const reading = useReading(hut, { id });
  return reading.state === "ready" ? <p>{reading.value.MEMBER}<cista-lamp entry={reading.key} /></p> : <p>{reading.state}</p>;
}`,
  },
  {
    framework: "plain",
    packages: [],
    check: ["typescript/bin/tsc", "--noEmit"],
    file: "hut-panel.ts",
    text: `import { showReading } from "cista/plain";
import { cache, hut } from "./hut.js";
showReading(cache, hut, { id: "h-07" }, (reading) => {
  document.title = reading.state === "ready" ? String(reading.value.MEMBER) : reading.state;
});`,
  },
];

/** In the library's own folder or the root's, as npm has put it. */
function installed(program: string): string {
  const own = join(root, "packages/cista/node_modules", program);
  return existsSync(own) ? own : join(root, "node_modules", program);
}

/** What the project's own check says of its two templates. */
function check(project: Project): { readonly output: string; readonly status: number | null } {
  const here = at(project.framework);
  mkdirSync(join(here, "node_modules"), { recursive: true });
  renameSync(at("cista"), join(here, "node_modules/cista"));
  for (const name of project.packages) {
    const link = join(here, "node_modules", name);
    mkdirSync(dirname(link), { recursive: true });
    symlinkSync(join(root, "node_modules", name), link);
  }
  const tsconfig = {
    compilerOptions: {
      ...{ target: "es2022", lib: ["es2022", "dom", "dom.iterable", "esnext.disposable"], strict: true, types: [] },
      ...{ module: "esnext", moduleResolution: "bundler", exactOptionalPropertyTypes: true, skipLibCheck: false },
      ...{ verbatimModuleSyntax: true, noEmit: true, rootDir: "." },
      ...project.compilerOptions,
    },
    angularCompilerOptions: project.angularCompilerOptions,
    include: ["."],
  };
  writeFileSync(join(here, "package.json"), '{ "type": "module" }');
  writeFileSync(join(here, "tsconfig.json"), JSON.stringify(tsconfig));
  writeFileSync(join(here, "hut.ts"), source);
  writeFileSync(join(here, `good-${project.file}`), project.text.replace("MEMBER", "water"));
  writeFileSync(join(here, `bad-${project.file}`), project.text.replace("MEMBER", "watr"));
  const [program, ...words] = project.check;
  const { status, stdout, stderr } = spawnSync(process.execPath, [installed(program), ...words], {
    cwd: here,
    encoding: "utf8",
  });
  renameSync(join(here, "node_modules/cista"), at("cista"));
  rmSync(here, { recursive: true, force: true });
  return { status, output: stripVTControlCharacters(`${stdout}${stderr}`) };
}

test.each(projects.map((project) => [project.framework, project] as const))(
  "%s: in an empty project its own check takes a good template, and refuses a bad one",
  (_, project) => {
    const { output, status } = check(project);
    const errors = output
      .split("\n")
      .filter((line) => /\b(?:error|warning) [A-Z]+-?\d+|\b(?:ERROR|WARNING) "/.test(line));
    expect(errors).toEqual([expect.stringContaining(`bad-${project.file}`)]);
    expect(errors[0]).toContain("watr");
    expect(output).not.toContain("good-");
    expect(status).not.toBe(0);
  },
);
