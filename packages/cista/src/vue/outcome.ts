import { type FunctionalComponent, h, type InjectionKey, inject, type VNodeChild } from "vue";
import { englishTexts, type Texts, waitingText } from "../binding/texts.js";
import { type Failure, type Missing, match, type Reading } from "../core/index.js";

/** For programs that give other texts to a part of the page: `provide(textsKey, { ... })`. */
export const textsKey: InjectionKey<Partial<Texts>> = Symbol("cista texts");

/** The slots of `Outcome`. */
export interface OutcomeSlots<T> {
  default(shown: { readonly value: T; readonly reading: Reading<T> }): unknown;
  loading?(shown: { readonly reading: Reading<T> }): unknown;
  missing?(shown: { readonly reading: Missing }): unknown;
  failed?(shown: { readonly failure: Failure; readonly again: () => void }): unknown;
}

/** `Outcome` as templates see it: the slots' types follow from the reading's. */
export type OutcomeComponent = new <T>(props: {
  of: Reading<T>;
}) => { $props: { of: Reading<T> }; $slots: OutcomeSlots<T> };

const shown: FunctionalComponent<{ of: Reading<any> }> = ({ of: reading }, { slots }) => {
  const texts = { ...englishTexts, ...inject(textsKey, {}) };
  const slot = (name: string, props: object, plain: () => VNodeChild) => slots[name]?.(props) ?? plain();
  const again = () => void reading.revalidate();
  const { default: filled } = slots;
  const ready = () => filled?.({ value: reading.value, reading });
  const wait = () =>
    slot("loading", { reading }, () => {
      const attributes = reading.state === "empty" ? {} : { role: "status", "aria-busy": true };
      return h("p", attributes, waitingText(texts, reading));
    });
  return match<any, any>(reading, {
    empty: wait,
    loading: () => (reading.value === undefined ? wait() : ready()),
    ready,
    missing: (none) => slot("missing", { reading: none }, () => h("p", texts.missing)),
    failed: (failure) =>
      slot("failed", { failure, again }, () =>
        h("div", { role: "alert" }, [
          h("p", texts.failed(failure)),
          h("button", { type: "button", onClick: again }, texts.tryAgain),
        ]),
      ),
  });
};
shown.props = ["of"];

/**
 * One place for the four states of a reading, each a slot. A state that is left out gets a plain, accessible rendering.
 * A stand-in or carried-over value is shown as a value; its reading says that it is provisional.
 * @example
 * <Outcome :of="hut">
 *   <template #default="{ value }"><h2>{{ value.name }}</h2></template>
 *   <template #failed="{ failure, again }"><button @click="again">{{ failure.message }}</button></template>
 * </Outcome>
 */
export const Outcome: OutcomeComponent = shown as unknown as OutcomeComponent;
