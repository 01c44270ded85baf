import { createCache, Failure, intercept, missing } from "cista";

/** Everything is answered here, by the name of its source: for stories, a demo, or before there is a server. */
const answers: Record<string, (params: any) => unknown> = {
  hut: ({ id }: { id: string }) => (id === "h-07" ? { id, name: "Harebell Hut" } : missing()),
  weather: () => {
    throw new Failure("http", "The mast has iced over.", { status: 503, retryable: false });
  },
};

export function cacheWithAnswers(delay: number) {
  const cache = createCache();
  intercept(cache, {
    load: async ({ source, params, context }, proceed) => {
      const answer = answers[source];
      if (!answer) return proceed(); // the real one
      await new Promise((resolve) => setTimeout(resolve, delay));
      context.signal.throwIfAborted();
      return answer(params);
    },
  });
  return cache;
}
