import { type Accessor, createComponent, createMemo, type JSX, untrack, useContext } from "solid-js";
import { Dynamic } from "solid-js/web";
import { waitingText } from "../binding/texts.js";
import type { Failure, Missing, Reading } from "../core/index.js";
import { TextsContext } from "./create-reading.js";

export interface OutcomeProps<T> {
  of: Reading<T>;
  loading?: JSX.Element | ((reading: Reading<T>) => JSX.Element);
  missing?: JSX.Element | ((reading: Missing) => JSX.Element);
  failed?: JSX.Element | ((failure: Accessor<Failure>, again: () => void) => JSX.Element);
  /** Called once for as long as there is a value: look at it in the returned element. */
  children: (value: Accessor<T>, reading: Reading<T>) => JSX.Element;
}

/**
 * One place for the four states of a reading. A state that is left out gets a plain, accessible rendering.
 * A stand-in or carried-over value is shown as a value; its reading says that it is provisional.
 * @example <Outcome of={reading}>{(value) => <h2>{value().name}</h2>}</Outcome>
 */
export function Outcome<T>(props: OutcomeProps<T>): JSX.Element {
  const texts = useContext(TextsContext);
  const again = () => void props.of.revalidate();
  const shown = createMemo(() => {
    const { state, value } = props.of;
    return state === "loading" && value !== undefined ? "ready" : state;
  });
  // A value that leaves may still be looked at: the last one stays.
  const value = createMemo<T>((before) => (props.of.value as T | undefined) ?? (before as T));
  const failure = createMemo<Failure>((before) => props.of.failure ?? (before as Failure));
  const parts = {
    value: () => props.children(value, props.of),
    wait: () => given(props.loading, [props.of]) ?? plainWait(),
    missing: () => given(props.missing, [props.of as Missing]) ?? element("p", () => texts.missing),
    failed: () => given(props.failed, [failure, again]) ?? plainFailed(),
  };
  const plainWait = () => {
    const text = () => waitingText(texts, props.of);
    return shown() === "empty" ? element("p", text) : element("p", text, { role: "status", "aria-busy": "true" });
  };
  const plainFailed = () =>
    element(
      "div",
      () => [
        element("p", () => texts.failed(failure())),
        element("button", () => texts.tryAgain, { type: "button", onClick: again }),
      ],
      { role: "alert" },
    );
  const which = { ready: "value", missing: "missing", failed: "failed", loading: "wait", empty: "wait" } as const;
  return createMemo(() => {
    const part = parts[which[shown()]];
    return untrack(part);
  }) as unknown as JSX.Element;
}

function given<A extends unknown[]>(part: JSX.Element | ((...all: A) => JSX.Element), all: A): JSX.Element {
  return typeof part === "function" ? (part as (...all: A) => JSX.Element)(...all) : part;
}

/** In the page and on a server, without a compiler. */
function element(component: string, content: () => JSX.Element, attributes: object = {}): JSX.Element {
  const properties = Object.defineProperty({ component, ...attributes }, "children", {
    enumerable: true,
    get: content,
  });
  return createComponent(Dynamic as never, properties as never);
}
