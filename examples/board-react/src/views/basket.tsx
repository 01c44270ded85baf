import { nightInWords, nightsFrom } from "../time.js";
import type { Night } from "../world.js";

/** @param nights undefined while that is not known */
export function Count({ nights }: { nights: number | undefined }) {
  return (
    <p className="count">
      <b>{nights ?? "–"}</b> {nights === 1 ? "night" : "nights"} in your basket
    </p>
  );
}

/** Nights one after another in one hut. */
export interface Stay {
  readonly hut: string;
  readonly name: string;
  readonly nights: readonly Night[];
}

export function Unconfirmed({ changes }: { changes: number }) {
  if (changes === 0) return null;
  return (
    <span>
      {changes} {changes === 1 ? "change" : "changes"} not confirmed yet
    </span>
  );
}

export function Removed({ stay, undo }: { stay: Stay; undo(stay: Stay): void }) {
  return (
    <span>
      <bdi>{stay.name}</bdi> is out of your basket.{" "}
      <button type="button" className="link" onClick={() => undo(stay)}>
        Undo
      </button>
    </span>
  );
}

interface Changes {
  onChoose(id: string): void;
  add(stay: Stay, night: string): void;
  take(night: string): void;
  remove(stay: Stay): void;
}

export function Stays({ nights, ...changes }: Changes & { nights: readonly Night[] }) {
  return (
    <>
      {nights.length === 0 && <p className="note">No nights booked yet.</p>}
      <ul className="nights">
        {staysIn(nights).map((stay) => (
          <StayRow key={`${stay.hut} ${stay.nights[0]?.night}`} stay={stay} {...changes} />
        ))}
      </ul>
    </>
  );
}

function StayRow({ stay, onChoose, add, take, remove }: Changes & { stay: Stay }) {
  const { nights, name } = stay;
  const first = nights[0]?.night ?? "";
  const last = nights.at(-1)?.night ?? "";
  return (
    <li className={nights.some(({ pending }) => pending) ? "pending" : ""}>
      <time dateTime={first}>{nightInWords(first)}</time>
      <button type="button" className="link" onClick={() => onChoose(stay.hut)}>
        {name}
      </button>
      <span className="stay">
        <button type="button" className="quiet" aria-label={`One night less at ${name}`} onClick={() => take(last)}>
          −
        </button>
        <span>
          {nights.length} {nights.length === 1 ? "night" : "nights"}
        </span>
        <button
          type="button"
          className="quiet"
          aria-label={`One night more at ${name}`}
          onClick={() => add(stay, nightsFrom(last, 1))}
        >
          +
        </button>
        <button type="button" className="link" onClick={() => remove(stay)}>
          Remove<span className="unseen"> {name}</span>
        </button>
      </span>
    </li>
  );
}

function staysIn(nights: readonly Night[]): Stay[] {
  const stays: { hut: string; name: string; nights: Night[] }[] = [];
  for (const night of nights) {
    const stay = stays.at(-1);
    const last = stay?.nights.at(-1);
    if (stay && last && stay.hut === night.hut && nightsFrom(last.night, 1) === night.night) stay.nights.push(night);
    else stays.push({ hut: night.hut, name: night.name, nights: [night] });
  }
  return stays;
}
