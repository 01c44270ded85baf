/** Code that stands around every load of one cache. Rule R10. */
import type { Answer } from "../../api/answer.js";
import { checkedAnswer } from "../../api/check.js";
import type { Cache } from "../../api/contract.js";
import { policyWith } from "../../api/freshness.js";
import type { Cause } from "../../api/journal.js";
import type { Interceptor, LoadCall, LoadChanges, LoadContext } from "../../api/source-contract.js";
import { noteArrival } from "../../kernel/asking.js";
import { changeHeld } from "../../kernel/keeping.js";
import { applyAnswer } from "../../kernel/taking.js";
import { guarded } from "../../lib/guarded.js";
import { batch, scheduleRelease } from "../../state/batches.js";
import { assertNotDisposed, coreOf, type Interception, nowOf } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { composingKey, type DependencyReader } from "../../state/links.js";

/**
 * Puts an interceptor around every load from now on. The last one added stands outermost. Returns its own removal.
 * @throws CistaError code "cache-disposed"
 * @example
 * const remove = intercept(cache, {
 *   load: async (call, proceed) => {
 *     console.time(call.key);
 *     const answer = await proceed();
 *     console.timeEnd(call.key);
 *     return answer;
 *   },
 * });
 */
export function intercept(cache: Cache, interceptor: Interceptor): () => void {
  const core = coreOf(cache);
  assertNotDisposed(core);
  core.interception ??= new Interceptors();
  const remove = core.interception.add(interceptor);
  return () => {
    remove();
    for (const entry of [...core.underWay]) if (entry.request?.phase === "offline") entry.request.hurry();
  };
}

/** The interceptors of one cache, the outermost last. */
class Interceptors implements Interception {
  #interceptors: readonly { readonly interceptor: Interceptor }[] = [];

  add(interceptor: Interceptor): () => void {
    const own = { interceptor }; // the same interceptor twice stands there twice
    this.#interceptors = [...this.#interceptors, own];
    return () => {
      this.#interceptors = this.#interceptors.filter((other) => other !== own);
    };
  }

  /** Rule R10. Not where a listener would miss the request (a journal), nor for an entry with dependencies or dependents. */
  takeKnown(entry: Entry, cause: Cause): boolean {
    const { core, source } = entry.shelf;
    if (entry.request || entry.links || composingKey in source || core.comingWithPage?.has(entry.key)) return false;
    if (core.journal?.hears("request") || core.journal?.hears("answer")) return false;
    const known = this.#known(entry, cause);
    if (!known || known.kind === "unchanged") return false;
    batch(core, () => {
      changeHeld(entry, () => applyAnswer(entry, known, ++core.version, nowOf(core)));
      noteArrival(entry);
      if (entry.noStore && entry.watchers === 0) scheduleRelease(entry);
    });
    return entry.fits; // rule F9
  }

  /** From the outermost inwards, as far as the first that would see the load. */
  #known({ key, params, shelf: { core, source } }: Entry, cause: Cause): Answer<unknown> | undefined {
    const { definition, name } = source;
    const { partition } = core.options;
    for (const { interceptor } of this.#interceptors.toReversed()) {
      const answer = interceptor.known?.({ key, source: name, params, definition, partition, cause });
      if (answer || interceptor.load) return answer;
    }
    return undefined;
  }

  /** Through the interceptors, the outermost first. A change that one makes to the context is seen by those within. */
  load(entry: Entry, reader: DependencyReader | undefined, context: LoadContext): unknown {
    const { core, source, settings } = entry.shelf;
    const { definition } = source;
    const callWith = (changes: LoadChanges): LoadCall => ({
      key: entry.key,
      source: source.name,
      params: entry.params,
      context: changed(context, changes),
      definition,
      partition: core.options.partition,
      get dependsOn() {
        return reader?.keys ?? [];
      },
      policyOf: (details) => policyWith(settings.policy, details),
    });
    const around = this.#interceptors.reduce<(changes: LoadChanges) => unknown>(
      (inner, { interceptor }) =>
        (changes) =>
          interceptor.load
            ? interceptor.load(callWith(changes), (more) => inner({ ...changes, ...more }))
            : inner(changes),
      async (changes) => {
        const came = await definition.load(entry.params, changed(context, changes));
        return definition.check ? checkedAnswer(definition.check, came) : came;
      },
    );
    return around({});
  }

  /** Whether one makes a source wait as if there were no network; one that throws does not. */
  isOffline(source: string): boolean {
    return this.#interceptors.some(({ interceptor }) => {
      let offline = false;
      guarded(() => {
        offline = interceptor.isOffline?.(source) ?? false;
      });
      return offline;
    });
  }
}

/** Members with a getter, such as the held value, keep their getter: they are computed when they are read. */
function changed(context: LoadContext, changes: LoadChanges): LoadContext {
  if (Object.keys(changes).length === 0) return context;
  const made = {};
  for (const name of Object.keys(context) as (keyof LoadContext)[]) {
    Object.defineProperty(made, name, { enumerable: true, configurable: true, get: () => context[name] });
  }
  return Object.defineProperties(made, Object.getOwnPropertyDescriptors(changes)) as LoadContext;
}
