export interface Hut {
  id: string;
  name: string;
  water: number;
  routes: string[];
}
export interface Night {
  hut: string;
  night: string;
}

/** Stands for the hut network's server: the same paths and caching headers as the demo's origin, and an answer at once. */
export class Greyfell {
  readonly huts: Record<string, Hut> = {
    "h-07": { id: "h-07", name: "Harebell Hut", water: 90, routes: ["/api/routes/r-4"] },
    "h-12": { id: "h-12", name: "Peat Hag Hut", water: 40, routes: ["/api/routes/r-4", "/api/routes/r-8"] },
    "h-20": { id: "h-20", name: "Tarn Shelf Hut", water: 65, routes: ["/api/routes/r-8"] },
  };
  readonly routes: Record<string, { id: string; name: string; stages: string[] }> = {
    "r-4": { id: "r-4", name: "Crow Steps", stages: ["/api/huts/h-07", "/api/huts/h-12"] },
    "r-8": { id: "r-8", name: "Heron Circuit", stages: ["/api/huts/h-12", "/api/huts/h-20"] },
  };
  basket: Night[] = [];
  /** What was asked for, in order. */
  readonly requests: string[] = [];
  /** The Idempotency-Key of each write, or null. */
  readonly keys: (string | null)[] = [];
  /** A status that every answer has from now on. */
  failing: number | undefined;

  #answers: Promise<void> = Promise.resolve();

  /** Holds every answer back, until what it returns is called. */
  hold(): () => void {
    let go = () => {};
    this.#answers = new Promise((resolve) => {
      go = resolve;
    });
    return () => go();
  }

  readonly fetch: typeof fetch = async (input, init) => {
    const request = new Request(input, init);
    const { pathname, search } = new URL(request.url);
    this.requests.push(`${request.method} ${pathname}${search}`);
    if (request.method !== "GET") this.keys.push(request.headers.get("idempotency-key"));
    await this.#answers;
    if (this.failing) return problem(this.failing, "The network is down", "The mast on Long Shelf has iced over.");
    const [, , kind, id] = pathname.split("/");
    if (kind === "basket") return this.#basket(request);
    if (kind === "huts" && id === undefined) return this.#list(new URLSearchParams(search).get("q") ?? "");
    const found = (kind === "huts" ? this.huts : this.routes)[id ?? ""];
    if (!found) return problem(404, "No such hut", `There is no hut ${id}.`);
    const etag = `"${JSON.stringify(found).length}-${"water" in found ? found.water : 0}"`;
    const headers = { "Cache-Control": "max-age=60", ETag: etag, "Cache-Groups": `"hut-${id}"` };
    if (request.headers.get("If-None-Match") === etag) return new Response(null, { status: 304, headers });
    return Response.json(found, { headers });
  };

  #list(q: string): Response {
    const huts = Object.values(this.huts).filter(({ name }) => name.toLowerCase().includes(q));
    const headers = { "Cache-Control": "max-age=30, stale-while-revalidate=300" };
    return Response.json({ count: huts.length, huts }, { headers });
  }

  async #basket(request: Request): Promise<Response> {
    if (request.method === "GET") {
      return Response.json({ nights: this.basket }, { headers: { "Cache-Control": "private, no-store" } });
    }
    const night: Night = await request.json();
    if (night.hut === "h-20") return problem(409, "The hut is full", "Tarn Shelf Hut has no bunk left on that night.");
    this.basket = [...this.basket, night];
    return Response.json(night, { status: 201, headers: { "Cache-Group-Invalidation": `"hut-${night.hut}"` } });
  }
}

function problem(status: number, title: string, detail: string): Response {
  return Response.json({ title, detail }, { status, headers: { "Content-Type": "application/problem+json" } });
}
