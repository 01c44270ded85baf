import {
  ageInWords,
  basket,
  boardCache,
  book,
  bunks,
  chosenHut,
  hut,
  huts,
  nightsInWords,
  regions,
  someNight,
  told,
} from "@cista/example-board-shared";
import type { Failure } from "cista";
import { type Shown, showReading, writeRunner } from "cista/plain";
import "@cista/example-board-shared/board.css";

const cache = boardCache();

/** An element with attributes, listeners ("onclick") and children. */
function el<K extends keyof HTMLElementTagNameMap>(
  name: K,
  given: Record<string, unknown> = {},
  ...children: (Node | string)[]
): HTMLElementTagNameMap[K] {
  const element = document.createElement(name);
  for (const [key, value] of Object.entries(given)) {
    if (key.startsWith("on")) element.addEventListener(key.slice(2), value as EventListener);
    else element.setAttribute(key, String(value));
  }
  element.append(...children);
  return element;
}
const trouble = (failure: Failure, again: () => void) =>
  el("p", { role: "alert" }, `${failure.message} `, el("button", { type: "button", onclick: again }, "Again"));

const nights = el("p");
const list = el("div");
const panel = el("section", { class: "card", "aria-label": "Hut" });
const filter = { region: "", q: "" };

const shownHuts = showReading(
  cache,
  huts,
  { ...filter },
  (reading) => {
    if (reading.state === "failed") list.replaceChildren(trouble(reading.failure, reading.revalidate));
    else if (!reading.value) list.replaceChildren(el("p", { role: "status" }, "Loading…"));
    else if (reading.value.length === 0) list.replaceChildren(el("p", {}, "No hut is called that."));
    else {
      const rows = reading.value.map(({ id, name }) => el("li", {}, el("a", { href: `#${id}` }, name)));
      list.replaceChildren(el("ul", { "aria-busy": reading.provisional === "carried" }, ...rows));
      markChosen();
    }
  },
  { carryOver: true },
);
const filterBy = (change: Partial<typeof filter>) => shownHuts.set({ ...Object.assign(filter, change) });

showReading(cache, basket, undefined, ({ value, pendingWrites }) => {
  nights.replaceChildren(nightsInWords(value), ...(pendingWrites ? [el("span", {}, " (not confirmed)")] : []));
});

function markChosen(): void {
  for (const link of list.querySelectorAll("a")) {
    link.setAttribute("aria-current", String(link.hash.slice(1) === chosenHut()));
  }
}

/** What is shown of the chosen hut; taken off when another is chosen. */
const shown: Shown<any>[] = [];
function showHut(): void {
  for (const each of shown.splice(0)) each.stop();
  const id = chosenHut();
  markChosen();
  if (!id) {
    panel.replaceChildren(el("p", {}, "Choose a hut."));
    return;
  }
  const bunksPanel = bunksOf(id);
  shown.push(
    showReading(cache, hut, { id }, (reading) => {
      if (reading.state === "missing") panel.replaceChildren(el("p", {}, `There is no hut ${id}.`));
      else if (reading.state === "failed") panel.replaceChildren(trouble(reading.failure, reading.revalidate));
      else if (reading.state !== "ready") panel.replaceChildren(el("p", { role: "status" }, "Loading…"));
      else {
        const { name, region, altitude, warden, water } = reading.value;
        const facts = { Region: region, Altitude: `${altitude} m`, Warden: warden, Water: `${water} litres` };
        panel.replaceChildren(
          el("h2", {}, name),
          el("p", { class: "age" }, ageInWords(reading.fresh, reading.request)),
          el("dl", {}, ...Object.entries(facts).flatMap(([word, fact]) => [el("dt", {}, word), el("dd", {}, fact)])),
          el("button", { type: "button", onclick: reading.revalidate }, "Ask now"),
          bunksPanel,
        );
      }
    }),
  );
}

function bunksOf(id: string): HTMLElement {
  let night = someNight;
  const count = el("p");
  const refusal = el("div");
  const button = el("button", { type: "button", onclick: () => runBook({ hut: id, night }) }, "Book a bunk");
  const runBook = writeRunner(cache, book, ({ underWay, failure, reset }) => {
    button.disabled = underWay > 0;
    const putAway = el("button", { type: "button", onclick: reset }, "Put away");
    refusal.replaceChildren(...(failure ? [el("p", { role: "alert" }, `${told(failure)} `, putAway)] : []));
  });
  const free = showReading(
    cache,
    bunks,
    { id, night },
    ({ value }) => {
      count.textContent = value ? `${value.free} of ${value.of} bunks free` : "…";
    },
    { carryOver: true },
  );
  shown.push(free);
  const choose = ({ target }: { target: HTMLInputElement }) => {
    night = target.value;
    free.set({ id, night });
  };
  const date = el("input", { type: "date", "aria-label": "Night", value: night, oninput: choose });
  return el("section", { class: "bunks", "aria-label": "Bunks" }, date, count, button, refusal);
}

document.getElementById("app")?.append(
  el("header", {}, el("h1", {}, "Greyfell huts"), nights),
  el(
    "main",
    {},
    el(
      "section",
      { class: "card", "aria-label": "Huts" },
      el("input", {
        type: "search",
        "aria-label": "Search huts",
        placeholder: "Search",
        oninput: ({ target }: { target: HTMLInputElement }) => filterBy({ q: target.value }),
      }),
      el(
        "select",
        {
          "aria-label": "Region",
          onchange: ({ target }: { target: HTMLSelectElement }) => filterBy({ region: target.value }),
        },
        el("option", { value: "" }, "All regions"),
        ...regions.map((each) => el("option", {}, each)),
      ),
      list,
    ),
    panel,
  ),
);
addEventListener("hashchange", showHut);
showHut();
