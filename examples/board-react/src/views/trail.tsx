import type { Notice } from "../world.js";

export function Trail({ notices: all, onChoose }: { notices: readonly Notice[]; onChoose(id: string): void }) {
  return (
    <ul className="notes" aria-live="polite">
      {all.length === 0 && <li className="note">No notices.</li>}
      {all
        .slice(-5)
        .reverse()
        .map(({ id, text, hut }) => (
          <li key={id}>
            <bdi>{text}</bdi>{" "}
            {hut && (
              <button type="button" className="link" onClick={() => onChoose(hut)}>
                {hut}
              </button>
            )}
          </li>
        ))}
    </ul>
  );
}
