import type { Asked, BindingOptions } from "../binding/asked.js";
import { LiveReading } from "../binding/live.js";
import type { Reading } from "../core/index.js";
import { type AnyReading, picked, type Rendering } from "../core/internal.js";

/**
 * A reading while a page is rendered on a server: it waits when it is looked at (rule H6), by throwing what React waits for.
 * Handed on as a prop it is looked at anew each time, since React may retry only the child.
 */
export class PageReading extends LiveReading {
  constructor({ view, source, when }: Asked, rendering: Rendering, { pick }: BindingOptions<any, any>) {
    let part: AnyReading | undefined;
    super(() => {
      const known = rendering.of(view, source, when);
      if (known instanceof Promise) throw known;
      if (!pick) return known as AnyReading;
      part ??= picked(known as AnyReading, pick, undefined);
      return part;
    });
  }

  /** For logs, without waiting. */
  toJSON(): Partial<Reading<any>> {
    return {};
  }
}
