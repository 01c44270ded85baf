import { absolute } from "./address.js";
import { Askers } from "./asker.js";
import { type Origin, type OriginOptions, serverKey } from "./contract.js";
import { sourceOf } from "./definition.js";
import { load } from "./load.js";
import { Renewals } from "./renewal.js";
import type { Server } from "./server.js";

/**
 * One server, described once. Sends nothing. Its sources are made by its own method; other kinds, which only some programs use, are made by
 * functions that take it: `writeTo`, `pagesFrom`, `eventsFrom`, `graphqlFrom`.
 * @throws CistaError code "invalid-base-url" for a base that is no absolute URL
 * @example
 * const api = origin({ base: "https://huts.example" });
 * const hut = api.source({ name: "hut", url: ({ id }: { id: string }) => path`/api/huts/${id}` });
 * const book = writeTo(api, { name: "book", method: "POST", url: "/api/basket" });
 */
export function origin(options: OriginOptions = {}): Origin {
  const server = {
    ...options,
    base: options.base === undefined ? undefined : absolute(options.base),
    renewals: options.renew && new Renewals(options.renew),
  } as Server & { askers: Askers };
  server.askers = new Askers(server);
  return {
    [serverKey]: server,
    source: (definition: any) =>
      sourceOf(server, definition, { load: (params, context) => load(server, definition, params, context) }),
  };
}
