/** One entry, with all that can be done with it: `cache.at`. */
import type { AnswerDetails } from "../../api/answer.js";
import type { EntryHandle, ReadOptions } from "../../api/contract.js";
import type { Reading, View, ViewOptions } from "../../api/reading.js";
import type { Source } from "../../api/source-contract.js";
import { keyText } from "../../lib/key.js";
import { assertNotDisposed, type Core } from "../../state/core.js";
import { patch } from "./changing.js";

/** Its source and params are all that it knows: the entry itself may come and go. */
export class Handle implements EntryHandle<any> {
  readonly #core: Core;
  readonly #source: Source<any, any>;
  readonly #params: unknown;

  constructor(core: Core, source: Source<any, any>, params: unknown) {
    this.#core = core;
    this.#source = source;
    this.#params = params;
  }

  get key(): string {
    return keyText(this.#source.name, this.#params);
  }

  peek(): Reading<any> {
    return this.#core.cache.peek(this.#source, this.#params);
  }

  read(options?: ReadOptions): Promise<any> {
    return this.#core.cache.read(this.#source, this.#params, options as never);
  }

  view(options?: ViewOptions<any, any>): View<any> {
    return this.#core.cache.view<any, any, any>(this.#source, this.#params, options);
  }

  prefetch(): void {
    this.#core.cache.prefetch(this.#source, this.#params);
  }

  put(value: unknown, details?: AnswerDetails): void {
    this.#core.cache.put(this.#source, this.#params, value, details);
  }

  patch(change: (value: any) => unknown): boolean {
    assertNotDisposed(this.#core);
    const entry = this.#core.shelves.find(this.#source, this.#params);
    return entry !== undefined && patch(entry, change);
  }

  invalidate(): boolean {
    return this.#core.cache.invalidate({ key: this.key }) > 0;
  }

  revalidate(): Promise<Reading<any>> {
    return this.view({ when: false }).revalidate();
  }

  delete(): boolean {
    return this.#core.cache.delete({ key: this.key }) > 0;
  }
}
