import { problemsByField } from "cista/http";
import { useWrite } from "cista/react";
import { useRef } from "react";
import { said } from "./app-texts.js";
import { addJob } from "./sources.js";

export function NewJob() {
  const [runAdd, { underWay, failure }] = useWrite(addJob);
  const form = useRef<HTMLFormElement>(null);
  const wrong = problemsByField(failure);
  const send = async (title: string) => {
    const { phase } = await runAdd({ title });
    if (phase === "done") form.current?.reset();
  };
  return (
    <form
      ref={form}
      onSubmit={(event) => {
        event.preventDefault();
        void send(String(new FormData(event.currentTarget).get("title")));
      }}
    >
      <label>
        What is broken? <input name="title" aria-invalid={wrong.title !== undefined} aria-describedby="title-wrong" />
      </label>
      <button type="submit" disabled={underWay > 0}>
        {underWay > 0 ? "Sending…" : "Report"}
      </button>
      <p id="title-wrong" role="alert">
        {wrong.title?.join(" ") ?? (failure && said(failure))}
      </p>
    </form>
  );
}
