/**
 * The number of sign-outs in this browser, for one database: kept where it can be read and written at once, so
 * that it counts even when the page is gone the next moment, and for every tab. 0 where nothing can be kept there. Rules O6, S4.
 */
export class Era {
  readonly #name: string;

  constructor(database: string) {
    this.#name = `cista sign-outs ${database}`;
  }

  get now(): number {
    try {
      return Number(localStorage.getItem(this.#name)) || 0;
    } catch {
      return 0;
    }
  }

  /** A new one begins. */
  begin(): void {
    try {
      localStorage.setItem(this.#name, String(this.now + 1));
    } catch {
      // Without it a page that ends in the middle of a sign-out may leave something stored.
    }
  }
}
