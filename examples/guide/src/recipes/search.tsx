import { origin, withQuery } from "cista/http";
import { Outcome, useDebounced, useReading } from "cista/react";
import { useState } from "react";

const api = origin({ base: "https://huts.example" });

const search = api.source({
  name: "search",
  url: ({ text }: { text: string }) => withQuery("/api/huts", { q: text }),
  unwrap: (body: { huts: { id: string; name: string }[] }) => body.huts,
});

export function Search() {
  const [text, setText] = useState("");
  // Asked for once nothing has been typed for 300 ms; what was found before stays meanwhile.
  const reading = useReading(search, { text: useDebounced(text, "300ms") }, { carryOver: true });
  return (
    <>
      <input type="search" aria-label="Search" value={text} onChange={({ target }) => setText(target.value)} />
      <Outcome of={reading}>
        {(huts) => (
          <ul aria-busy={reading.provisional === "carried"}>
            {huts.map(({ id, name }) => (
              <li key={id}>{name}</li>
            ))}
          </ul>
        )}
      </Outcome>
    </>
  );
}
