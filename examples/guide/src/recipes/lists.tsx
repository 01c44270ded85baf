import { origin, pagesFrom, path, withQuery, writeTo } from "cista/http";
import { Outcome, usePages, useWrite } from "cista/react";

const api = origin({ base: "https://huts.example" });

interface Repair {
  id: string;
  text: string;
}
const repairs = pagesFrom<{ region: string }, Repair>(api, {
  name: "repairs",
  url: ({ region }) => withQuery("/api/repairs", { region }),
  unwrap: (body) => body.items,
  // Only where the server sends no Link field with rel="next".
  next: ({ cursor }, _, { region }) => cursor && withQuery("/api/repairs", { region, cursor }),
});

const remove = writeTo<string, void>(api, {
  name: "remove",
  method: "DELETE",
  url: (id) => path`/api/repairs/${id}`,
  // Wherever it stands: in every region's list, on whichever page.
  optimistic: (id, edit) =>
    edit.each(repairs).patch((list) => ({ ...list, items: list.items.filter((each) => each.id !== id) })),
});

export function Repairs({ region }: { region: string }) {
  const { reading, next, loadNext } = usePages(repairs, { region });
  const [runRemove, { failure }] = useWrite(remove);
  return (
    <Outcome of={reading}>
      {({ items }) => (
        <>
          {failure && <p role="alert">{failure.message}</p>}
          <ul>
            {items.map(({ id, text }) => (
              <li key={id}>
                {text}{" "}
                <button type="button" aria-label={`Remove ${text}`} onClick={() => void runRemove(id)}>
                  ✕
                </button>
              </li>
            ))}
          </ul>
          {next.failure && <p role="alert">{next.failure.message}</p>}
          {next.exists && (
            <button type="button" disabled={next.request !== "none"} onClick={loadNext}>
              More
            </button>
          )}
        </>
      )}
    </Outcome>
  );
}
