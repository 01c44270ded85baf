import type { EntryInfo, JournalEvent } from "../core/index.js";
import type { Mishap } from "../rehearsal/rehearse.js";
import { type Description, element, redraw } from "./dom.js";
import type { Entries, LampHub } from "./hub.js";
import { style } from "./style.js";
import { inOneLine, isAsking, type Light, lengthOfTime, lightOf, until, wordsFor } from "./words.js";

/** The tower of this page, once there is one. */
let hub: LampHub | undefined;
const placed = new Set<Lamp>();

export function setHub(next: LampHub | undefined): void {
  hub = next;
  for (const lamp of placed) lamp.connect();
}

const path = (className: string, d: string): Description => element("path", { class: className, d });
const lit: Record<Light, readonly Description[]> = {
  full: [path("light", "M5.4 7h5.2l.8 9H4.6z")],
  half: [path("light", "M4.95 12h6.1l.35 4H4.6z")],
  shut: [path("frame", "M5 8.5h6M4.8 11h6.4M4.6 13.5h6.8")],
  moon: [path("light", "M9.6 8a4 4 0 1 0 1.4 6 3.2 3.2 0 0 1-1.4-6z")],
  wick: [path("frame", "M8 16v-4")],
  dark: [],
};
const frame = path("frame", "M5 4.5C5 1.5 11 1.5 11 4.5M4 5.5h8M3.5 17.5h9M4.5 5.5 3.5 17.5M11.5 5.5l1 12");
const flame = path("flame", "M8 8.2c1.9 2.2 2.2 3.4 2.2 4.4a2.2 2.2 0 0 1-4.4 0C5.8 11.4 6.9 10.2 8 8.200z");

/** A storm lantern: its glass full of light, half, shuttered, or showing only the wick. */
function mark(light: Light, asking: boolean): Description {
  const box = { viewBox: "0 0 16 20", width: "16", height: "20", "aria-hidden": "true" };
  return element("svg", box, frame, lit[light], asking && flame);
}

/** So many entries are listed: nobody reads more, and each costs the page. */
const mostRows = 200;

const mishaps: readonly (readonly [name: keyof Mishap, label: string, on: Mishap])[] = [
  ["slow", "slow", { slow: 3000 }],
  ["failing", "failing", { failing: true }],
  ["missing", "missing", { missing: true }],
  ["offline", "offline", { offline: true }],
  ["outOfOrder", "out of order", { outOfOrder: true }],
];

const Base = (globalThis.HTMLElement ?? class {}) as typeof HTMLElement; // a server may import it

/**
 * `<cista-lamp entry="hut {&quot;id&quot;:&quot;h-07&quot;}">`: the mark of one entry. Without `entry`: those entries
 * that no other lamp on the page shows.
 */
export class Lamp extends Base {
  static observedAttributes: string[] = ["entry"];
  #leave: (() => void) | undefined;
  #open = false;
  /** The entry whose card is open: the lamp's own, or one of the list. */
  #chosen: string | undefined;
  #drawn: readonly Description[] = [];

  get entry(): string | undefined {
    return this.getAttribute("entry") ?? undefined;
  }

  set entry(key: string | undefined) {
    if (key === undefined || key === null) this.removeAttribute("entry");
    else this.setAttribute("entry", key);
  }

  connectedCallback(): void {
    placed.add(this);
    if (this.shadowRoot === null) {
      const root = this.attachShadow({ mode: "open" });
      root.adoptedStyleSheets = [styleSheet()];
      root.addEventListener("click", (event) => this.#pressed(event.target as Element));
      root.addEventListener("keydown", (event) => this.#key(event as KeyboardEvent));
    }
    this.connect();
  }

  /** Looks out from the tower that there is now; where there is none it is dark. */
  connect(): void {
    this.#leave = hub?.add(this);
    this.look();
  }

  disconnectedCallback(): void {
    placed.delete(this);
    this.#leave?.();
    this.#leave = undefined;
  }

  attributeChangedCallback(): void {
    this.#chosen = undefined;
    this.look();
  }

  /** Draws what has become another. */
  look(entries: Entries | undefined = hub?.entries()): void {
    const root = this.shadowRoot;
    if (!root) return;
    const parts = entries ? this.#parts(entries) : [];
    const focused = (root.activeElement as HTMLElement | null)?.dataset.act;
    redraw(root, this.#drawn, parts);
    this.#drawn = parts;
    // Where its element is gone, the one that does the same has it.
    if (focused && !root.activeElement) root.querySelector<HTMLElement>(`[data-act="${CSS.escape(focused)}"]`)?.focus();
  }

  #parts(entries: Entries): Description[] {
    return this.entry === undefined ? this.#wide(entries) : this.#single(this.entry, entries.get(this.entry));
  }

  #single(key: string, info: EntryInfo | undefined): Description[] {
    const reading = shownOf(info);
    const button = this.#button(
      "toggle",
      this.#open,
      lightOf(reading),
      isAsking(reading),
      wordsFor(reading, Date.now()),
    );
    if (!this.#open) return [button];
    return [button, element("div", { class: "card", role: "group", "aria-label": key }, card(key, info))];
  }

  /** The entries that no panel shows. */
  #wide(entries: Entries): Description[] {
    const shown = new Set([...placed].map((lamp) => lamp.entry));
    const rest = [...entries.values()].filter(({ key }) => !shown.has(key));
    const asking = rest.some((info) => isAsking(shownOf(info)));
    const words = `${rest.length} more ${rest.length === 1 ? "entry" : "entries"}`;
    const button = this.#button("toggle", this.#open, rest.length > 0 ? "full" : "dark", asking, words);
    if (!this.#open) return [button];
    const rows = rest.slice(0, mostRows).map((info) => this.#row(info));
    if (rest.length > mostRows) {
      rows.push(element("li", { class: "quiet" }, `… and ${rest.length - mostRows} more, not listed`));
    }
    const list =
      rows.length > 0
        ? element("ul", {}, rows)
        : element("p", { class: "quiet" }, "Every entry has a lamp of its own.");
    return [
      button,
      element("div", { class: "card wide", role: "group", "aria-label": "Entries that no panel shows" }, list),
    ];
  }

  #row(info: EntryInfo): Description {
    const { key } = info;
    const reading = shownOf(info);
    const open = key === this.#chosen;
    const words = `${short(key)}: ${wordsFor(reading, Date.now())}`;
    const button = this.#button(`choose ${key}`, open, lightOf(reading), isAsking(reading), words);
    return element("li", {}, button, open && card(key, info));
  }

  #button(act: string, open: boolean, light: Light, asking: boolean, words: string): Description {
    const part = act === "toggle" ? "lamp" : undefined;
    const attributes = { type: "button", class: "lamp", part, "data-act": act, "aria-expanded": String(open) };
    return element("button", attributes, mark(light, asking), element("span", {}, words));
  }

  #key({ key }: KeyboardEvent): void {
    if (key !== "Escape" || !this.#open) return;
    this.#open = false;
    this.look();
    this.shadowRoot?.querySelector<HTMLElement>('[data-act="toggle"]')?.focus();
  }

  #pressed(target: Element): void {
    const act = target.closest<HTMLElement>("[data-act]")?.dataset.act;
    if (act === undefined || !hub) return;
    const key = this.entry ?? this.#chosen;
    const source = key?.split(" ")[0];
    if (act === "toggle") this.#open = !this.#open;
    else if (act.startsWith("choose ")) this.#chosen = this.#chosen === act.slice(7) ? undefined : act.slice(7);
    else if (act === "ask" && key) void hub.cache.revalidate({ key });
    else if (act === "forget" && key) hub.cache.delete({ key });
    else if (source) toggle(source, act);
    this.look();
  }
}

function toggle(source: string, name: string): void {
  const mishap = mishaps.find(([each]) => each === name);
  if (!mishap || !hub) return;
  const { [mishap[0]]: was, ...others } = hub.mishapOf(source) ?? {};
  const next = was === undefined ? { ...others, ...mishap[2] } : others;
  hub.rehearsal.set(source, Object.keys(next).length > 0 ? next : undefined);
}

/** What its components see; where there are none, what is held. */
function shownOf(info: EntryInfo | undefined): EntryInfo["reading"] | undefined {
  return info?.shown ?? info?.reading;
}

/** What is held and how good it is, who looks, what happened last and why, and what may be tried. */
function card(key: string, info: EntryInfo | undefined): Description[] {
  const now = Date.now();
  const source = key.split(" ")[0] ?? key;
  const reading = shownOf(info);
  const { watchers = 0, groups = [], staleAt, expiredAt, dependsOn = [] } = info ?? {};
  const holds = reading?.state === "ready" || reading?.state === "missing";
  const rows: [string, string][] = [
    ["holds", reading?.state === "ready" ? inOneLine(reading.value) : (reading?.state ?? "nothing")],
    ...(holds
      ? ([
          ["age", lengthOfTime(now - reading.asOf)],
          ["fresh", until(staleAt, now)],
          ["usable", until(expiredAt, now)],
        ] as [string, string][])
      : []),
    ["watched", watchers === 1 ? "by one component" : `by ${watchers} components`],
    ...(groups.length > 0 ? ([["groups", groups.join(", ")]] as [string, string][]) : []),
    ...(dependsOn.length > 0 ? ([["made of", dependsOn.join(", ")]] as [string, string][]) : []),
    ...(reading?.failure ? ([["failure", reading.failure.message]] as [string, string][]) : []),
  ];
  const list = rows.flatMap(([name, value]) => [element("dt", {}, name), element("dd", {}, short(value))]);
  const events = (hub?.eventsOf(key) ?? []).map((event) => element("li", {}, short(sentence(event, now))));
  const on = hub?.mishapOf(source) ?? {};
  const switches = mishaps.map(([name, label]) => {
    const box = { type: "checkbox", "data-act": name, checked: on[name] !== undefined };
    return element("label", {}, element("input", box), label);
  });
  const title = `Rehearse ${short(source)}`;
  return [
    element("h3", {}, short(key)),
    element("dl", {}, list),
    ...(events.length > 0 ? [element("h4", {}, "What happened last"), element("ol", {}, events)] : []),
    element("h4", {}, title),
    element("div", { role: "group", "aria-label": title }, switches),
    element(
      "div",
      { class: "acts" },
      element("button", { type: "button", "data-act": "ask" }, "Ask now"),
      element("button", { type: "button", "data-act": "forget" }, "Forget"),
    ),
  ];
}

function sentence({ kind, at, cause, cacheStatus, write, note, failure, from }: JournalEvent, now: number): string {
  const why = [
    cause && `(${cause})`,
    from && `from another tab, ${from}`,
    write && `by ${write}`,
    cacheStatus,
    failure?.message,
    note,
  ].filter(Boolean);
  return `${lengthOfTime(now - at)} ago: ${kind} ${why.join(" ")}`;
}

/** Longer texts than this are cut, in characters. */
const longest = 600;

function short(text: string): string {
  return text.length > longest ? `${text.slice(0, longest - 1)}…` : text;
}

let sheet: CSSStyleSheet | undefined;

/** One for all lamps, made by the program and not by the page's markup: a page without `unsafe-inline` allows it. */
function styleSheet(): CSSStyleSheet {
  if (!sheet) {
    sheet = new CSSStyleSheet();
    sheet.replaceSync(style);
  }
  return sheet;
}
