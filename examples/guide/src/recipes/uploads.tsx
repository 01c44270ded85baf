import { origin, path, writeTo } from "cista/http";
import { useWrite } from "cista/react";

const api = origin({ base: "https://huts.example" });

const addPhoto = writeTo<{ hut: string; photo: File }, { url: string }>(api, {
  name: "add-photo",
  method: "POST",
  url: ({ hut }) => path`/api/huts/${hut}/photos`,
  body({ photo }) {
    const form = new FormData(); // what fetch sends as it is goes as it is, with its own content type
    form.set("photo", photo);
    return form;
  },
  timeout: "10m",
});

export function PhotoUpload({ hut }: { hut: string }) {
  const [runAdd, { phase, failure, result, abort }] = useWrite(addPhoto);
  return (
    <p>
      <input
        type="file"
        accept="image/*"
        aria-label="Photo"
        onChange={({ target }) => target.files?.[0] && void runAdd({ hut, photo: target.files[0] })}
      />
      {phase === "sending" && (
        <button type="button" onClick={abort}>
          Stop
        </button>
      )}
      {phase === "offline" && "It is sent when the network is back."}
      {result && <img src={result.url} alt="What was sent" />}
      {failure?.message}
    </p>
  );
}
