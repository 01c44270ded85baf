import { origin, path } from "cista/http";

const api = origin({ base: "https://huts.example" });

export const hut = api.source<{ id: string }, { name: string }>({
  name: "hut",
  url: ({ id }) => path`/api/huts/${id}`,
});
