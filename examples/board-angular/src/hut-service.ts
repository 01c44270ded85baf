import { computed, Injectable, signal } from "@angular/core";
import { basket, book, bunks, chosenHut, hut, huts, someNight } from "@cista/example-board-shared";
import { injectReading, injectWrite } from "cista/angular";

/** What the board is about: the list is asked for on arrival, whoever shows it. */
@Injectable({ providedIn: "root" })
export class HutService {
  readonly q = signal("");
  readonly region = signal("");
  readonly chosen = signal(chosenHut());
  readonly night = signal(someNight);

  readonly nights = injectReading(basket);
  readonly list = injectReading(huts, () => ({ region: this.region(), q: this.q() }), { carryOver: true });
  readonly hut = injectReading(hut, () => this.#withId((id) => ({ id })));
  readonly bunks = injectReading(bunks, () => this.#withId((id) => ({ id, night: this.night() })), { carryOver: true });
  readonly booking = injectWrite(book);

  readonly isOld = computed(() => this.list.provisional() === "carried");

  constructor() {
    addEventListener("hashchange", () => this.chosen.set(chosenHut()));
  }

  bookBunk(): void {
    const id = this.chosen();
    if (id) void this.booking.run({ hut: id, night: this.night() });
  }

  #withId<P>(params: (id: string) => P): P | undefined {
    const id = this.chosen();
    return id === undefined ? undefined : params(id);
  }
}
