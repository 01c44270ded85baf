import { useCache } from "cista/react";
import { useEffect, useState } from "react";
import { said } from "./app-texts.js";
import { type Filter, JobList } from "./job-list.js";
import { JobPage } from "./job-page.js";
import { NewJob } from "./new-job.js";
import { Notices } from "./notices.js";
import { addJob, addPhoto, jobWithCrew, orderParts } from "./sources.js";

/** Their forms say what is wrong, at the place where it is. */
const tellThemselves = new Set([addJob, addPhoto, orderParts].map(({ name }) => name));

/** The chosen job stands in the address, so that the browser's own back and forward work. */
function useChosen(): string | undefined {
  const [hash, setHash] = useState(location.hash);
  useEffect(() => {
    const changed = () => setHash(location.hash);
    addEventListener("hashchange", changed);
    return () => removeEventListener("hashchange", changed);
  }, []);
  return hash.slice(1) || undefined;
}

export function App() {
  const cache = useCache();
  const chosen = useChosen();
  const [filter, setFilter] = useState<Filter>("all");
  const [troubles, setTroubles] = useState<string[]>([]);
  const [signedOut, setSignedOut] = useState(false);

  // One place for what is refused, but for the forms that say so themselves.
  useEffect(
    () =>
      cache.onFailure((failure, { write }) => {
        if (failure.status === 401) setSignedOut(true);
        else if (write && !tellThemselves.has(write)) setTroubles((all) => [said(failure), ...all].slice(0, 3));
      }),
    [cache],
  );

  if (signedOut) {
    return (
      <main className="signed-out">
        <p>You are signed out.</p>
        <button type="button" onClick={() => setSignedOut(false)}>
          Sign in
        </button>
      </main>
    );
  }
  return (
    <>
      <header>
        <h1>Repair crews</h1>
        <button type="button" onClick={() => void cache.signOut().then(() => setSignedOut(true))}>
          Sign out
        </button>
      </header>
      {troubles.length > 0 && (
        <section role="alert" aria-label="What went wrong" className="banner">
          {troubles.map((text) => (
            <p key={text}>{text}</p>
          ))}
          <button type="button" onClick={() => setTroubles([])}>
            Dismiss
          </button>
        </section>
      )}
      <main>
        <section aria-label="Jobs">
          <JobList
            filter={filter}
            onFilter={setFilter}
            chosen={chosen}
            onHover={(id) => cache.at(jobWithCrew, { id }).prefetch()}
          />
          <NewJob />
        </section>
        <section aria-label="Job">{chosen ? <JobPage key={chosen} id={chosen} /> : <p>Choose a job.</p>}</section>
        <Notices />
      </main>
    </>
  );
}
