import {
  Boundary,
  CistaProvider,
  Outcome as Shown,
  useDebounced,
  usePages,
  useReading,
  useReadings,
  useValue,
  useWrite,
} from "cista/react";
import { Component, type ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { argumentsOf, type Driver, optionsOf, pagesText, type Question } from "../driver.js";

interface Props {
  given: Question;
  ran(): void;
}
function Outcome({ given, ran }: Props) {
  ran();
  const { source, params, when = true, every = false, carryOver, pick } = given;
  const reading = useReading<any, any, any>(source, params, {
    when,
    revalidateEvery: () => every,
    ...(carryOver ? { carryOver } : {}),
    ...(pick ? { pick } : {}),
  });
  return (
    <>
      <p>
        {reading.state === "ready"
          ? `ready ${reading.value}`
          : reading.state === "loading"
            ? `loading ${reading.value === undefined ? "" : `${reading.value} ${reading.provisional}`}`
            : reading.state === "failed"
              ? `failed ${reading.failure.message}`
              : reading.state}
      </p>
      <button type="button" onClick={() => void reading.revalidate()}>
        again
      </button>
    </>
  );
}
function Value({ given, ran }: Props) {
  ran();
  const reading = useReading<any, any, any>(given.source, ...argumentsOf(given, given.params, optionsOf(given)));
  return <p>{String(reading.value ?? "–")}</p>;
}
function Lamp({ given, ran }: Props) {
  ran();
  const { request, fresh } = useReading<any, any, any>(given.source, given.params, { when: given.when ?? true });
  return <p>{`${request} ${fresh}`}</p>;
}
function Waiting({ given }: Props) {
  return (
    <Boundary
      loading={<p>waiting</p>}
      missing={<p>failed There is no hut 2</p>}
      failed={(failure) => <p>failed {failure.message}</p>}
    >
      <Waited given={given} />
    </Boundary>
  );
}
function Waited({ given }: { given: Question }) {
  return <p>{String(useValue<any, any>(given.source, given.params))}</p>;
}
function Rows({ given }: { given: Question }) {
  const readings = useReadings<any, any, any>(given.source, given.list ?? [], optionsOf(given));
  return <p>{readings.map(({ value }) => String(value ?? "–")).join(", ")}</p>;
}
function Paged({ given }: { given: Question }) {
  const { reading, next, loadNext } = usePages<any, any>(
    given.source,
    ...argumentsOf(given, given.params, optionsOf(given)),
  );
  return (
    <>
      <p>{pagesText(reading.value, next)}</p>
      <button type="button" onClick={() => void loadNext()}>
        more
      </button>
    </>
  );
}
function Typed({ given }: { given: Question }) {
  const { value } = useReading<any, any, any>(given.source, useDebounced(given.params, "300ms"));
  return <p>{String(value ?? "–")}</p>;
}
function ShownBy({ given }: { given: Question }) {
  return (
    <Shown of={useReading<any, any, any>(given.source, given.params, { when: given.when ?? true })}>
      {(value) => <p>{value}</p>}
    </Shown>
  );
}
function Form({ given }: { given: any }) {
  const [run, status] = useWrite<any, any>(given.write);
  return (
    <>
      <p>
        {status.phase} {String(status.failure?.message ?? status.result ?? "")}
      </p>
      <button type="button" onClick={() => void run(given.input)}>
        send
      </button>
    </>
  );
}
class Catch extends Component<{ threw(error: unknown): void; children: ReactNode }> {
  override state = { broken: false };
  static getDerivedStateFromError() {
    return { broken: true };
  }
  override componentDidCatch(error: unknown) {
    this.props.threw(error);
  }
  override render() {
    return this.state.broken ? <i>broken</i> : this.props.children;
  }
}
const more = { rows: Rows, pages: Paged, typed: Typed, shown: ShownBy };
const kinds: Record<string, any> = {
  ...more,
  outcome: Outcome,
  value: Value,
  lamp: Lamp,
  waiting: Waiting,
  form: Form,
};

export const react: Driver = {
  framework: "react",
  without: [],
  async mount({ element, cache, texts = {}, ran, threw }, panels) {
    (globalThis as any).IS_REACT_ACT_ENVIRONMENT = false;
    const given: Record<string, any> = { ...panels };
    let shown = Object.keys(panels);
    const root = createRoot(element);
    const draw = () => {
      const all = shown.map((name) => {
        const Kind = kinds[panels[name]!.kind];
        return (
          <section data-panel={name} key={name}>
            <Catch threw={threw}>
              <Kind given={given[name]} ran={() => ran(name)} />
            </Catch>
          </section>
        );
      });
      root.render(
        cache ? (
          <CistaProvider cache={cache} texts={texts}>
            {all}
          </CistaProvider>
        ) : (
          all
        ),
      );
    };
    draw();
    const rendered = async () => {
      // Over preact/compat effects run after a frame.
      for (let n = 0; n < 2; n++) await new Promise((resolve) => requestAnimationFrame(() => setTimeout(resolve)));
    };
    return {
      give(panel, change) {
        given[panel] = { ...given[panel], ...change };
        draw();
      },
      show(panel, on) {
        shown = Object.keys(panels).filter((name) => (name === panel ? on : shown.includes(name)));
        draw();
      },
      rendered,
      async unmount() {
        root.unmount();
        await rendered();
      },
    };
  },
};
