import {
  computed,
  createEnvironmentInjector,
  DestroyRef,
  EnvironmentInjector,
  inject,
  runInInjectionContext,
  type Signal,
  untracked,
} from "@angular/core";
import { optionsIn, valueNow } from "../binding/asked.js";
import { KeyedReadings } from "../binding/keyed.js";
import type { Source } from "../core/index.js";
import { type AngularOptions, injectCacheFor, injectReading, type ReadingSignal } from "./inject-reading.js";

/**
 * The readings of a list of params that may grow and shrink: each stays the same while its params are in the list.
 * @throws as `injectReading`
 * @example
 * readonly huts = injectReadings(hut, () => this.ids().map((id) => ({ id })));
 * // in a template's for block: huts(), tracked by reading.key(), shows reading.value()?.name
 */
export function injectReadings<P, T, U = T>(
  source: Source<P, T>,
  paramsList: readonly NoInfer<P>[] | (() => readonly NoInfer<P>[]),
  options: AngularOptions<T, U> = {},
): Signal<readonly ReadingSignal<U>[]> {
  if (typeof options === "object" && options.injector) {
    const { injector, ...rest } = options;
    return runInInjectionContext(injector, () => injectReadings(source, paramsList, rest));
  }
  const cache = injectCacheFor(typeof options === "object" ? options : {});
  const parent = inject(EnvironmentInjector);
  const kept = new KeyedReadings<ReadingSignal<U>>(source, (params) => {
    const injector = createEnvironmentInjector([], parent);
    const said = optionsIn(options, cache);
    const reading = runInInjectionContext(injector, () => injectReading<any, any, any>(source, () => params, said));
    return { reading: reading as ReadingSignal<U>, end: () => injector.destroy() };
  });
  inject(DestroyRef).onDestroy(() => kept.end());
  return computed(() => {
    const list = [...valueNow(paramsList)];
    return untracked(() => kept.of(list));
  });
}
