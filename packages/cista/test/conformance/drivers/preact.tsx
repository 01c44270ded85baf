/** @jsxImportSource preact */
import {
  CistaProvider,
  Outcome as Shown,
  useDebounced,
  usePages,
  useReading,
  useReadings,
  useWrite,
} from "cista/preact";
import { Component, type ComponentChildren, render } from "preact";
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
    carryOver,
    pick,
    revalidateEvery: () => every,
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
class Catch extends Component<{ threw(error: unknown): void; children: ComponentChildren }, { broken: boolean }> {
  override state = { broken: false };
  override componentDidCatch(error: unknown) {
    this.props.threw(error);
    this.setState({ broken: true });
  }
  override render() {
    return this.state.broken ? <i>broken</i> : this.props.children;
  }
}
const more = { rows: Rows, pages: Paged, typed: Typed, shown: ShownBy };
const kinds: Record<string, any> = { ...more, outcome: Outcome, value: Value, lamp: Lamp, form: Form };

export const preact: Driver = {
  framework: "preact",
  without: ["waiting"],
  mount({ element, cache, texts = {}, ran, threw }, panels) {
    let app: any;
    const given: Record<string, any> = { ...panels };
    let shown = Object.keys(panels);
    class App extends Component {
      override componentDidMount() {
        app = this;
      }
      override render() {
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
        return cache ? (
          <CistaProvider cache={cache} texts={texts}>
            {all}
          </CistaProvider>
        ) : (
          all
        );
      }
    }
    render(<App />, element);
    return {
      give(panel, change) {
        given[panel] = { ...given[panel], ...change };
        app.setState({});
      },
      show(panel, on) {
        shown = Object.keys(panels).filter((name) => (name === panel ? on : shown.includes(name)));
        app.setState({});
      },
      rendered: async () => {
        for (let n = 0; n < 3; n++) await new Promise((resolve) => setTimeout(resolve));
      },
      unmount: () => render(null, element),
    };
  },
};
