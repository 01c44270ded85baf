import { origin, problemsByField, writeTo } from "cista/http";
import { useWrite } from "cista/react";

const api = origin({ base: "https://huts.example" });

interface Report {
  hut: string;
  text: string;
}
const report = writeTo<Report, { id: string }>(api, {
  name: "report",
  method: "POST",
  url: "/api/repairs",
});

export function ReportForm({ hut, onDone }: { hut: string; onDone: (id: string) => void }) {
  const [runReport, { underWay, failure }] = useWrite(report);
  const send = async (text: string) => {
    const { phase, result } = await runReport({ hut, text }); // never rejects
    if (phase === "done") onDone(result.id);
  };
  const wrong = problemsByField(failure);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        void send(String(new FormData(event.currentTarget).get("text")));
      }}
    >
      <label>
        What is broken? <input name="text" required aria-invalid={wrong.text !== undefined} />
      </label>
      {wrong.text && <p role="alert">{wrong.text.join(" ")}</p>}
      {failure && !wrong.text && <p role="alert">{failure.problem?.title ?? "This could not be sent."}</p>}
      <button type="submit" disabled={underWay > 0}>
        {underWay > 0 ? "Sending…" : "Send"}
      </button>
    </form>
  );
}
