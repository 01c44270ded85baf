import { Outcome, useDebounced, usePages, useReading, useWrite } from "cista/react";
import { useState } from "react";
import { said } from "./app-texts.js";
import { jobs, removeJob, search, setStatus } from "./sources.js";
import type { Job, Status } from "./world.js";

export type Filter = Status | "all";
const filters: readonly Filter[] = ["all", "open", "done"];

interface JobListProps {
  filter: Filter;
  onFilter: (filter: Filter) => void;
  chosen: string | undefined;
  onHover: (id: string) => void;
}

export function JobList({ filter, onFilter, ...rows }: JobListProps) {
  const [text, setText] = useState("");
  return (
    <>
      <input
        type="search"
        aria-label="Search jobs"
        placeholder="Search jobs"
        value={text}
        onChange={({ target }) => setText(target.value)}
      />
      <fieldset>
        <legend>Show</legend>
        {filters.map((each) => (
          <label key={each}>
            <input type="radio" name="filter" checked={each === filter} onChange={() => onFilter(each)} /> {each}
          </label>
        ))}
      </fieldset>
      {text === "" ? <AllJobs filter={filter} {...rows} /> : <FoundJobs text={text} {...rows} />}
    </>
  );
}

type RowsProps = Pick<JobListProps, "chosen" | "onHover">;

function AllJobs({ filter, ...rows }: { filter: Filter } & RowsProps) {
  const { reading, next, loadNext } = usePages(jobs, filter === "all" ? {} : { status: filter }, { carryOver: true });
  return (
    <Outcome of={reading} loading={<p role="status">Loading the jobs…</p>}>
      {({ items }) => (
        <>
          <Rows jobs={items} isOld={reading.provisional === "carried"} {...rows} />
          {next.failure && <p role="alert">{said(next.failure)}</p>}
          {next.exists && (
            <button type="button" disabled={next.request !== "none"} onClick={loadNext}>
              {next.request === "none" ? "More" : "Loading…"}
            </button>
          )}
        </>
      )}
    </Outcome>
  );
}

function FoundJobs({ text, ...rows }: { text: string } & RowsProps) {
  const reading = useReading(search, { text: useDebounced(text, "250ms") }, { carryOver: true });
  return (
    <Outcome of={reading}>
      {(found) =>
        found.length === 0 ? (
          <p>Nothing is broken of that name.</p>
        ) : (
          <Rows jobs={found} isOld={reading.provisional === "carried"} {...rows} />
        )
      }
    </Outcome>
  );
}

function Rows({ jobs, isOld, chosen, onHover }: { jobs: readonly Job[]; isOld: boolean } & RowsProps) {
  const [runStatus] = useWrite(setStatus);
  const [runRemove, { underWay }] = useWrite(removeJob);
  return (
    <ul aria-busy={isOld}>
      {jobs.map(({ id, title, status }) => (
        <li key={id} className={status}>
          <input
            type="checkbox"
            aria-label={`${title} is done`}
            checked={status === "done"}
            onChange={() => runStatus({ id, status: status === "done" ? "open" : "done" })}
          />
          <a
            href={`#${id}`}
            aria-current={id === chosen}
            onPointerEnter={() => onHover(id)}
            onFocus={() => onHover(id)}
          >
            {title}
          </a>
          <button type="button" aria-label={`Remove ${title}`} onClick={() => runRemove(id)}>
            ✕
          </button>
        </li>
      ))}
      {underWay > 0 && <li role="status">{underWay} being removed…</li>}
    </ul>
  );
}
