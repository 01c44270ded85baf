import type { EntryInfo, JournalEvent } from "../core/index.js";
import type { Mishap } from "../rehearsal/rehearse.js";
import { style } from "./style.js";
import type { Entries, Tower } from "./tower.js";
import { inOneLine, isAsking, type Light, lengthOfTime, lightOf, until, wordsFor } from "./words.js";

/** The tower of this page, once there is one. */
let tower: Tower | undefined;
const placed = new Set<Lamp>();

export function light(next: Tower | undefined): void {
  tower = next;
  for (const lamp of placed) lamp.kindle();
}

const lit: Record<Light, string> = {
  full: '<path class="light" d="M5.4 7h5.2l.8 9H4.6z"/>',
  half: '<path class="light" d="M4.95 12h6.1l.35 4H4.6z"/>',
  shut: '<path class="frame" d="M5 8.5h6M4.8 11h6.4M4.6 13.5h6.8"/>',
  moon: '<path class="light" d="M9.6 8a4 4 0 1 0 1.4 6 3.2 3.2 0 0 1-1.4-6z"/>',
  wick: '<path class="frame" d="M8 16v-4"/>',
  dark: "",
};
const flame = '<path class="flame" d="M8 8.2c1.9 2.2 2.2 3.4 2.2 4.4a2.2 2.2 0 0 1-4.4 0C5.8 11.4 6.9 10.2 8 8.200z"/>';

/** A storm lantern: its glass full of light, half, shuttered, or showing only the wick. */
function mark(light: Light, asking: boolean): string {
  const frame =
    '<path class="frame" d="M5 4.5C5 1.5 11 1.5 11 4.5M4 5.5h8M3.5 17.5h9M4.5 5.5 3.5 17.5M11.5 5.5l1 12"/>';
  return `<svg viewBox="0 0 16 20" width="16" height="20" aria-hidden="true">${frame}${lit[light]}${asking ? flame : ""}</svg>`;
}

const mishaps: readonly (readonly [name: keyof Mishap, label: string, on: Mishap])[] = [
  ["slow", "slow", { slow: 3000 }],
  ["failing", "failing", { failing: true }],
  ["missing", "missing", { missing: true }],
  ["offline", "offline", { offline: true }],
  ["overtaken", "out of order", { overtaken: true }],
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
  #drawn: string | undefined;

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
      root.addEventListener("click", (event) => this.#pressed(event.target as Element));
      root.addEventListener("keydown", (event) => this.#key(event as KeyboardEvent));
    }
    this.kindle();
  }

  /** Looks out from the tower that there is now; where there is none it is dark. */
  kindle(): void {
    this.#leave = tower?.add(this);
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

  /** Draws itself anew, if anything in it is another. */
  look(entries: Entries | undefined = tower?.entries()): void {
    const root = this.shadowRoot;
    if (!root) return;
    const html = entries && this.#html(entries);
    if (html === this.#drawn) return;
    const focused = (root.activeElement as HTMLElement | null)?.dataset.act;
    this.#drawn = html;
    root.innerHTML = html === undefined ? "" : `<style>${style}</style>${html}`;
    if (focused) root.querySelector<HTMLElement>(`[data-act="${CSS.escape(focused)}"]`)?.focus();
  }

  #html(entries: Entries): string {
    return this.entry === undefined ? this.#wide(entries) : this.#single(this.entry, entries.get(this.entry));
  }

  #single(key: string, info: EntryInfo | undefined): string {
    const reading = shownOf(info);
    const words = wordsFor(reading, Date.now());
    const button = `<button type="button" class="lamp" part="lamp" data-act="toggle" aria-expanded="${this.#open}">${mark(lightOf(reading), isAsking(reading))}<span>${text(words)}</span></button>`;
    return `${button}${this.#open ? `<div class="card" role="group" aria-label="${text(key)}">${card(key, info)}</div>` : ""}`;
  }

  /** The entries that no panel shows. */
  #wide(entries: Entries): string {
    const shown = new Set([...placed].map((lamp) => lamp.entry));
    const rest = [...entries.values()].filter(({ key }) => !shown.has(key));
    const asking = rest.some((info) => isAsking(shownOf(info)));
    const words = `${rest.length} more ${rest.length === 1 ? "entry" : "entries"}`;
    const button = `<button type="button" class="lamp" part="lamp" data-act="toggle" aria-expanded="${this.#open}">${mark(rest.length > 0 ? "full" : "dark", asking)}<span>${words}</span></button>`;
    if (!this.#open) return button;
    const rows = rest.map((info) => {
      const { key } = info;
      const reading = shownOf(info);
      const open = key === this.#chosen;
      const row = `<button type="button" class="lamp" data-act="choose ${text(key)}" aria-expanded="${open}">${mark(lightOf(reading), isAsking(reading))}<span>${text(key)}: ${text(wordsFor(reading, Date.now()))}</span></button>`;
      return `<li>${row}${open ? card(key, entries.get(key)) : ""}</li>`;
    });
    const list =
      rows.length > 0 ? `<ul>${rows.join("")}</ul>` : '<p class="quiet">Every entry has a lamp of its own.</p>';
    return `${button}<div class="card wide" role="group" aria-label="Entries that no panel shows">${list}</div>`;
  }

  #key({ key }: KeyboardEvent): void {
    if (key !== "Escape" || !this.#open) return;
    this.#open = false;
    this.look();
    this.shadowRoot?.querySelector<HTMLElement>('[data-act="toggle"]')?.focus();
  }

  #pressed(target: Element): void {
    const act = target.closest<HTMLElement>("[data-act]")?.dataset.act;
    if (act === undefined || !tower) return;
    const key = this.entry ?? this.#chosen;
    const source = key?.split(" ")[0];
    if (act === "toggle") this.#open = !this.#open;
    else if (act.startsWith("choose ")) this.#chosen = this.#chosen === act.slice(7) ? undefined : act.slice(7);
    else if (act === "ask" && key) void tower.cache.revalidate({ key });
    else if (act === "forget" && key) tower.cache.delete({ key });
    else if (source) toggle(source, act);
    this.look();
  }
}

function toggle(source: string, name: string): void {
  const mishap = mishaps.find(([each]) => each === name);
  if (!mishap || !tower) return;
  const { [mishap[0]]: was, ...others } = tower.mishapOf(source) ?? {};
  const next = was === undefined ? { ...others, ...mishap[2] } : others;
  tower.rehearsal.set(source, Object.keys(next).length > 0 ? next : undefined);
}

/** What its components see; where there are none, what is held. */
function shownOf(info: EntryInfo | undefined): EntryInfo["reading"] | undefined {
  return info?.shown ?? info?.reading;
}

/** What is held and how good it is, who looks, what happened last and why, and what may be tried. */
function card(key: string, info: EntryInfo | undefined): string {
  const now = Date.now();
  const source = key.split(" ")[0] ?? key;
  const reading = shownOf(info);
  const { watchers = 0, groups = [], staleAt, expiredAt, dependsOn = [] } = info ?? {};
  const holds = reading?.state === "ready" || reading?.state === "missing";
  const rows: [string, string][] = [
    ["holds", reading?.state === "ready" ? inOneLine(reading.value) : (reading?.state ?? "nothing")],
    ...(holds
      ? ([
          ["age", lengthOfTime(now - reading.storedAt)],
          ["fresh", until(staleAt, now)],
          ["usable", until(expiredAt, now)],
        ] as [string, string][])
      : []),
    ["watched", watchers === 1 ? "by one component" : `by ${watchers} components`],
    ...(groups.length > 0 ? ([["groups", groups.join(", ")]] as [string, string][]) : []),
    ...(dependsOn.length > 0 ? ([["made of", dependsOn.join(", ")]] as [string, string][]) : []),
    ...(reading?.failure ? ([["failure", reading.failure.message]] as [string, string][]) : []),
  ];
  const list = rows.map(([name, value]) => `<dt>${name}</dt><dd>${text(value)}</dd>`).join("");
  const events = (tower?.eventsOf(key) ?? []).map((event) => `<li>${text(sentence(event, now))}</li>`).join("");
  const on = tower?.mishapOf(source) ?? {};
  const switches = mishaps
    .map(
      ([name, label]) =>
        `<label><input type="checkbox" data-act="${name}"${on[name] === undefined ? "" : " checked"}>${label}</label>`,
    )
    .join("");
  return `<h3>${text(key)}</h3><dl>${list}</dl>${events ? `<h4>What happened last</h4><ol>${events}</ol>` : ""}<h4>Rehearse ${text(source)}</h4><div role="group" aria-label="Rehearse ${text(source)}">${switches}</div><div class="acts"><button type="button" data-act="ask">Ask now</button><button type="button" data-act="forget">Forget</button></div>`;
}

function sentence({ kind, at, cause, cacheStatus, write, note, failure }: JournalEvent, now: number): string {
  const why = [cause && `(${cause})`, write && `by ${write}`, cacheStatus, failure?.message, note].filter(Boolean);
  return `${lengthOfTime(now - at)} ago: ${kind} ${why.join(" ")}`;
}

function text(raw: string): string {
  return raw.replace(/[&<>"]/g, (letter) => `&#${letter.charCodeAt(0)};`);
}
