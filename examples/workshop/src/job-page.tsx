import { Outcome, useReading, useReadings, useWrite } from "cista/react";
import { said } from "./app-texts.js";
import { addPhoto, crew, jobWithCrew, order, orderParts, setStatus } from "./sources.js";

export function JobPage({ id }: { id: string }) {
  const reading = useReading(jobWithCrew, { id });
  const [runStatus, status] = useWrite(setStatus);
  return (
    <Outcome of={reading} missing={<p>There is no job {id}.</p>}>
      {(job) => (
        <>
          <h2>{job.title}</h2>
          <p>
            {job.crew ? `${job.crew.name}, call ${job.crew.phone}` : "Nobody has been sent."}
            {reading.pendingWrites ? " (not confirmed)" : ""}
          </p>
          <button
            type="button"
            disabled={status.underWay > 0}
            onClick={() => runStatus({ id, status: job.status === "done" ? "open" : "done" })}
          >
            {job.status === "done" ? "Open again" : "Mark as done"}
          </button>
          <Photos id={id} photos={job.photos} />
          <Parts job={id} />
          <Crews />
        </>
      )}
    </Outcome>
  );
}

function Photos({ id, photos }: { id: string; photos: readonly string[] }) {
  const [runAdd, { phase, failure, abort }] = useWrite(addPhoto);
  return (
    <p>
      {photos.map((photo) => (
        <img key={photo} src={`/photos/${photo}`} alt={`Of the damage, ${photo}`} />
      ))}
      <label>
        Add a photo{" "}
        <input
          type="file"
          accept="image/*"
          onChange={({ target }) => target.files?.[0] && void runAdd({ id, photo: target.files[0] })}
        />
      </label>
      {phase === "sending" && (
        <button type="button" onClick={abort}>
          Stop
        </button>
      )}
      {phase === "offline" && <span role="status">It is sent when the network is back.</span>}
      {failure && <span role="alert">{said(failure)}</span>}
    </p>
  );
}

/** Parts are ordered, and asked about until they are there. */
function Parts({ job }: { job: string }) {
  const [runOrder, { result, underWay, failure }] = useWrite(orderParts);
  const { value } = useReading(order, result && { id: result.id });
  return (
    <p>
      <button type="button" disabled={underWay > 0 || result !== undefined} onClick={() => runOrder({ job })}>
        Order parts
      </button>{" "}
      {value && <span role="status">The parts are {value.state}.</span>}
      {failure && <span role="alert">{said(failure)}</span>}
    </p>
  );
}

/** Whom else one could call: several readings, one outcome. */
function Crews() {
  const readings = useReadings([
    [crew, { id: "c1" }],
    [crew, { id: "c2" }],
  ]);
  return <Outcome of={readings}>{(all) => <p>All crews: {all.map(({ name }) => name).join(", ")}</p>}</Outcome>;
}
