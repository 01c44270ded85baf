import { createCache } from "cista";
import { origin, type UploadProgress, uploadFetch, writeTo } from "cista/http";
import { expect, test } from "vitest";

// A real upload: to the server that serves this test, which takes nothing, and says so.
const api = origin({ headers: { authorization: "Bearer a" } });
const upload = writeTo<{ photo: Blob; onProgress: (progress: UploadProgress) => void }>(api, {
  name: "upload",
  method: "POST",
  url: "/no-such-place",
  body: ({ photo }) => photo,
  sendBy: ({ onProgress }) => uploadFetch(onProgress),
});
const photo = new Blob([new Uint8Array(3_000_000)], { type: "image/png" });

test("uploadFetch tells how far a body has been sent, and its answer is a response like any other", async () => {
  const cache = createCache();
  const seen: UploadProgress[] = [];
  const run = cache.run(upload, { photo, onProgress: (progress) => seen.push(progress) });
  await expect(run).rejects.toMatchObject({ kind: "http", status: 404 });
  expect(seen.at(-1)).toEqual({ sent: 3_000_000, total: 3_000_000 });
  expect(seen.map(({ sent }) => sent)).toEqual(seen.map(({ sent }) => sent).sort((one, other) => one - other));
  cache.dispose();
});

test("uploadFetch is aborted by its signal, and a server that is not there is a network failure", async () => {
  const stop = new AbortController();
  const sending = uploadFetch(() => stop.abort(new Error("enough")))("/no-such-place", {
    method: "POST",
    body: photo,
    signal: stop.signal,
  });
  await expect(sending).rejects.toThrow("enough");
  const late = uploadFetch(() => {})("/no-such-place", { method: "POST", signal: AbortSignal.abort(new Error("no")) });
  await expect(late).rejects.toThrow("no");
  await expect(uploadFetch(() => {})("http://127.0.0.1:9/", { method: "POST", body: "x" })).rejects.toThrow(TypeError);
});
