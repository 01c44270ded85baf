/** @jsxImportSource solid-js */
import {
  CistaProvider,
  createDebounced,
  createPages,
  createReading,
  createReadings,
  createValue,
  createWrite,
  Outcome as Shown,
} from "cista/solid";
import { createEffect, createSignal, ErrorBoundary, For, type JSX, Match, Show, Suspense, Switch } from "solid-js";
import { createStore } from "solid-js/store";
import { render } from "solid-js/web";
import { argumentsOf, type Driver, optionsOf, pagesText, type Question } from "../driver.js";

interface Props {
  given: Question;
  ran(): void;
}

function Outcome(props: Props): JSX.Element {
  const { source, carryOver, pick } = props.given;
  const reading = createReading<any, any, any>(source, () => props.given.params, {
    when: () => props.given.when ?? true,
    revalidateEvery: () => props.given.every ?? false,
    carryOver,
    pick,
  });
  const [runs, setRuns] = createSignal(0);
  createEffect(() => {
    void [reading.state, reading.value, reading.failure];
    props.ran();
  });
  void [runs, setRuns];
  return (
    <>
      <p>
        <Switch fallback={reading.state}>
          <Match when={reading.state === "ready"}>ready {String(reading.value)}</Match>
          <Match when={reading.state === "loading"}>
            loading {reading.value === undefined ? "" : `${reading.value} ${reading.provisional}`}
          </Match>
          <Match when={reading.state === "failed" && reading.failure}>
            {(failure) => <>failed {failure().message}</>}
          </Match>
        </Switch>
      </p>
      <button type="button" onClick={() => reading.revalidate()}>
        again
      </button>
    </>
  );
}

function Looks(props: Props & { lamp: boolean }): JSX.Element {
  const reading = createReading<any, any, any>(
    props.given.source,
    ...argumentsOf(
      props.given,
      () => props.given.params,
      () => optionsOf(props.given),
    ),
  );
  const text = () => {
    props.ran();
    return props.lamp ? `${reading.request} ${reading.fresh}` : String(reading.value ?? "–");
  };
  return <p>{text()}</p>;
}

function Waiting(props: Props): JSX.Element {
  return (
    <ErrorBoundary fallback={(error) => <p>failed {error.message}</p>}>
      <Suspense fallback={<p>waiting</p>}>
        <Value {...props} />
      </Suspense>
    </ErrorBoundary>
  );
}
function Value(props: Props): JSX.Element {
  const value = createValue<any, any>(props.given.source, () => props.given.params);
  return <p>{value()}</p>;
}

function Rows(props: Props): JSX.Element {
  const readings = createReadings<any, any, any>(
    props.given.source,
    () => props.given.list ?? [],
    () => optionsOf(props.given),
  );
  return (
    <p>
      {readings()
        .map(({ value }) => String(value ?? "–"))
        .join(", ")}
    </p>
  );
}
function Paged(props: Props): JSX.Element {
  const list = createPages<any, any>(
    props.given.source,
    ...argumentsOf(
      props.given,
      () => props.given.params,
      () => optionsOf(props.given),
    ),
  );
  return (
    <>
      <p>{pagesText(list.reading.value, list.next)}</p>
      <button type="button" onClick={() => list.loadNext()}>
        more
      </button>
    </>
  );
}
function Typed(props: Props): JSX.Element {
  const params = createDebounced(() => props.given.params, "300ms");
  const reading = createReading<any, any, any>(props.given.source, params);
  return <p>{reading.value ?? "–"}</p>;
}
function ShownBy(props: Props): JSX.Element {
  const reading = createReading<any, any, any>(props.given.source, () => props.given.params, {
    when: () => props.given.when ?? true,
  });
  return <Shown of={reading}>{(value) => <p>{value()}</p>}</Shown>;
}

function Form(props: { given: any }): JSX.Element {
  const [run, status] = createWrite<any, any>(props.given.write);
  return (
    <>
      <p>
        {status().phase} {status().failure?.message ?? status().result}
      </p>
      <button type="button" onClick={() => void run(props.given.input)}>
        send
      </button>
    </>
  );
}

const kinds: Record<string, (props: any) => JSX.Element> = {
  outcome: Outcome,
  value: (props) => <Looks {...props} lamp={false} />,
  lamp: (props) => <Looks {...props} lamp={true} />,
  waiting: Waiting,
  rows: Rows,
  pages: Paged,
  typed: Typed,
  shown: ShownBy,
  form: Form,
};

export const solid: Driver = {
  framework: "solid",
  without: [],
  mount({ element, cache, texts = {}, ran, threw }, panels) {
    // Signals, not a store: a store would wrap the params in proxies.
    const given = Object.fromEntries(Object.entries(panels).map(([name, panel]) => [name, createSignal<any>(panel)]));
    const [shown, setShown] = createSignal<string[]>(Object.keys(panels));
    const Panel = ({ name }: { name: string }) => {
      const Kind = kinds[panels[name]!.kind]!;
      return (
        <section data-panel={name}>
          <ErrorBoundary
            fallback={(error) => {
              threw(error);
              return <i>broken</i>;
            }}
          >
            <Kind given={given[name]![0]()} ran={() => ran(name)} />
          </ErrorBoundary>
        </section>
      );
    };
    const all = () => <For each={shown()}>{(name) => <Panel name={name} />}</For>;
    const dispose = render(
      () =>
        cache ? (
          <CistaProvider cache={cache} texts={texts}>
            {all()}
          </CistaProvider>
        ) : (
          all()
        ),
      element,
    );
    return {
      give: (panel, change) => void given[panel]![1]((before: any) => ({ ...before, ...change })),
      show: (panel, on) =>
        void setShown(Object.keys(panels).filter((name) => (name === panel ? on : shown().includes(name)))),
      rendered: async () => {
        await null;
        await null;
      },
      unmount: dispose,
    };
  },
};
void createStore;
void Show;
