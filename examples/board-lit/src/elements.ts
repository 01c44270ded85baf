import {
  ageInWords,
  basket,
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
import { ReadingController, WriteController } from "cista/lit";
import { html, LitElement, nothing, type TemplateResult } from "lit";

/** In the page itself, so that the one stylesheet counts for all of it. */
class PageElement extends LitElement {
  override createRenderRoot() {
    return this;
  }
}

const trouble = (failure: Failure, again: () => void): TemplateResult =>
  html`<p role="alert">${failure.message} <button type="button" @click=${again}>Again</button></p>`;

class HutBoard extends PageElement {
  readonly #nights = new ReadingController(this, basket);
  readonly #changed = () => this.requestUpdate();

  override connectedCallback() {
    super.connectedCallback();
    addEventListener("hashchange", this.#changed);
  }

  override disconnectedCallback() {
    super.disconnectedCallback();
    removeEventListener("hashchange", this.#changed);
  }

  override render() {
    const { value, pendingWrites } = this.#nights.reading;
    const chosen = chosenHut();
    return html`
      <header>
        <h1>Greyfell huts</h1>
        <p>${nightsInWords(value)}${pendingWrites ? html`<span> (not confirmed)</span>` : nothing}</p>
      </header>
      <main>
        <hut-list .chosen=${chosen}></hut-list>
        <section class="card" aria-label="Hut">
          ${chosen ? html`<hut-panel .hutId=${chosen}></hut-panel>` : html`<p>Choose a hut.</p>`}
        </section>
      </main>
    `;
  }
}

class HutList extends PageElement {
  static override properties = { chosen: {}, q: { state: true }, region: { state: true } };
  declare chosen: string | undefined;
  declare q: string;
  declare region: string;
  readonly #huts = new ReadingController(this, huts, () => ({ region: this.region, q: this.q }), { carryOver: true });

  constructor() {
    super();
    this.q = this.region = "";
  }

  override render() {
    return html`
      <section class="card" aria-label="Huts">
        <input
          .value=${this.q}
          @input=${({ target }: { target: HTMLInputElement }) => {
            this.q = target.value;
          }}
          type="search"
          aria-label="Search huts"
          placeholder="Search"
        />
        <select
          aria-label="Region"
          @change=${({ target }: { target: HTMLSelectElement }) => {
            this.region = target.value;
          }}
        >
          <option value="">All regions</option>
          ${regions.map((each) => html`<option>${each}</option>`)}
        </select>
        ${this.#list()}
      </section>
    `;
  }

  #list() {
    const reading = this.#huts.reading;
    if (reading.state === "failed") return trouble(reading.failure, reading.revalidate);
    if (!reading.value) return html`<p role="status">Loading…</p>`;
    if (reading.value.length === 0) return html`<p>No hut is called that.</p>`;
    return html`<ul aria-busy=${reading.provisional === "carried"}>
      ${reading.value.map(
        ({ id, name }) => html`<li><a href="#${id}" aria-current=${id === this.chosen}>${name}</a></li>`,
      )}
    </ul>`;
  }
}

class HutPanel extends PageElement {
  static override properties = { hutId: {} };
  declare hutId: string;
  readonly #hut = new ReadingController(this, hut, () => ({ id: this.hutId }));

  override render() {
    const reading = this.#hut.reading;
    if (reading.state === "missing") return html`<p>There is no hut ${this.hutId}.</p>`;
    if (reading.state === "failed") return trouble(reading.failure, reading.revalidate);
    if (reading.state !== "ready") return html`<p role="status">Loading…</p>`;
    const { name, region, altitude, warden, water } = reading.value;
    return html`
      <h2>${name}</h2>
      <p class="age">${ageInWords(reading.fresh, reading.request)}</p>
      <dl>
        <dt>Region</dt>
        <dd>${region}</dd>
        <dt>Altitude</dt>
        <dd>${altitude} m</dd>
        <dt>Warden</dt>
        <dd>${warden}</dd>
        <dt>Water</dt>
        <dd>${water} litres</dd>
      </dl>
      <button type="button" @click=${reading.revalidate}>Ask now</button>
      <bunks-panel .hutId=${this.hutId}></bunks-panel>
    `;
  }
}

class BunksPanel extends PageElement {
  static override properties = { hutId: {}, night: { state: true } };
  declare hutId: string;
  declare night: string;
  readonly #bunks = new ReadingController(this, bunks, () => ({ id: this.hutId, night: this.night }), {
    carryOver: true,
  });
  readonly #booking = new WriteController(this, book);

  constructor() {
    super();
    this.night = someNight;
  }

  override render() {
    const { value } = this.#bunks.reading;
    const { underWay, failure, reset } = this.#booking.status;
    return html`
      <section class="bunks" aria-label="Bunks">
        <input
          .value=${this.night}
          @input=${({ target }: { target: HTMLInputElement }) => {
            this.night = target.value;
          }}
          type="date"
          aria-label="Night"
        />
        <p>${value ? `${value.free} of ${value.of} bunks free` : "…"}</p>
        <button
          type="button"
          ?disabled=${underWay > 0}
          @click=${() => this.#booking.run({ hut: this.hutId, night: this.night })}
        >
          Book a bunk
        </button>
        ${
          failure
            ? html`<p role="alert">${told(failure)} <button type="button" @click=${reset}>Put away</button></p>`
            : nothing
        }
      </section>
    `;
  }
}

customElements.define("bunks-panel", BunksPanel);
customElements.define("hut-panel", HutPanel);
customElements.define("hut-list", HutList);
customElements.define("hut-board", HutBoard);
