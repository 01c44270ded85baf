import { ChangeDetectionStrategy, Component, inject } from "@angular/core";
import { ageInWords, nightsInWords, regions, told } from "@cista/example-board-shared";
import { HutService } from "./hut-service.js";

@Component({
  selector: "hut-list",
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <section class="card" aria-label="Huts">
      <input
        type="search"
        aria-label="Search huts"
        placeholder="Search"
        [value]="board.q()"
        (input)="board.q.set($any($event.target).value)"
      />
      <select aria-label="Region" [value]="board.region()" (change)="board.region.set($any($event.target).value)">
        <option value="">All regions</option>
        @for (each of regions; track each) {
          <option [value]="each">{{ each }}</option>
        }
      </select>
      @let reading = board.list();
      @if (reading.state === "failed") {
        <p role="alert">
          {{ reading.failure.message }} <button type="button" (click)="reading.revalidate()">Again</button>
        </p>
      } @else if (!reading.value) {
        <p role="status">Loading…</p>
      } @else if (reading.value.length === 0) {
        <p>No hut is called that.</p>
      } @else {
        <ul [attr.aria-busy]="board.isOld()">
          @for (hut of reading.value; track hut.id) {
            <li>
              <a [href]="'#' + hut.id" [attr.aria-current]="hut.id === board.chosen()">{{ hut.name }}</a>
            </li>
          }
        </ul>
      }
    </section>
  `,
})
export class HutList {
  readonly board = inject(HutService);
  readonly regions = regions;
}

@Component({
  selector: "bunks-panel",
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <section class="bunks" aria-label="Bunks">
      <input
        type="date"
        aria-label="Night"
        [value]="board.night()"
        (input)="board.night.set($any($event.target).value)"
      />
      @let bunks = board.bunks.value();
      <p>{{ bunks ? bunks.free + " of " + bunks.of + " bunks free" : "…" }}</p>
      @let status = board.booking.status();
      <button type="button" [disabled]="status.underWay > 0" (click)="board.bookBunk()">Book a bunk</button>
      @if (status.failure; as failure) {
        <p role="alert">{{ told(failure) }} <button type="button" (click)="status.reset()">Put away</button></p>
      }
    </section>
  `,
})
export class BunksPanel {
  readonly board = inject(HutService);
  readonly told = told;
}

@Component({
  selector: "hut-panel",
  imports: [BunksPanel],
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    @let reading = board.hut();
    @switch (reading.state) {
      @case ("ready") {
        <h2>{{ reading.value.name }}</h2>
        <p class="age">{{ ageInWords(reading.fresh, reading.request) }}</p>
        <dl>
          <dt>Region</dt>
          <dd>{{ reading.value.region }}</dd>
          <dt>Altitude</dt>
          <dd>{{ reading.value.altitude }} m</dd>
          <dt>Warden</dt>
          <dd>{{ reading.value.warden }}</dd>
          <dt>Water</dt>
          <dd>{{ reading.value.water }} litres</dd>
        </dl>
        <button type="button" (click)="reading.revalidate()">Ask now</button>
        <bunks-panel />
      }
      @case ("missing") {
        <p>There is no hut {{ board.chosen() }}.</p>
      }
      @case ("failed") {
        <p role="alert">
          {{ reading.failure.message }} <button type="button" (click)="reading.revalidate()">Again</button>
        </p>
      }
      @default {
        <p role="status">Loading…</p>
      }
    }
  `,
})
export class HutPanel {
  readonly board = inject(HutService);
  readonly ageInWords = ageInWords;
}

@Component({
  selector: "hut-board",
  imports: [HutList, HutPanel],
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <header>
      <h1>Greyfell huts</h1>
      @let nights = board.nights();
      <p>
        {{ nightsInWords(nights.value) }}
        @if (nights.pendingWrites) {
          <span>(not confirmed)</span>
        }
      </p>
    </header>
    <main>
      <hut-list />
      <section class="card" aria-label="Hut">
        @if (board.chosen()) {
          <hut-panel />
        } @else {
          <p>Choose a hut.</p>
        }
      </section>
    </main>
  `,
})
export class HutBoard {
  readonly board = inject(HutService);
  readonly nightsInWords = nightsInWords;
}
