import { buildSchema } from "graphql";
import { createHandler } from "graphql-http/lib/use/fetch";
import { Hono } from "hono";
import type { Hut, Route, World } from "./world.js";

const schema = buildSchema(`
  type Query {
    "By name."
    huts(region: String, q: String): [Hut!]!
    hut(id: ID!): Hut
    routes: [Route!]!
    bunks(hut: ID!, night: String!): Bunks
  }
  type Hut {
    id: ID!
    name: String!
    region: String!
    "Metres above the sea."
    altitude: Int!
    bunks: Int!
    warden: String!
    "Litres in the tank."
    water: Int!
    routes: [Route!]!
  }
  type Route {
    id: ID!
    name: String!
    kilometres: Int!
    climb: Int!
    stages: [Hut!]!
  }
  type Bunks { hut: Hut!, night: String!, free: Int!, of: Int! }
`);

/** `POST /graphql`, by a real GraphQL engine and the rules of GraphQL over HTTP. */
export function graphql(world: World, isNight: (text: unknown) => boolean): Hono {
  // A link's last part is the id.
  const linked = <T>(all: ReadonlyMap<string, T>, links: readonly string[]): T[] =>
    links.flatMap((link) => all.get(link.slice(link.lastIndexOf("/") + 1)) ?? []);
  const hutOf = (hut: Hut): object => ({ ...hut, routes: () => linked(world.routes, hut.routes).map(routeOf) });
  const routeOf = (route: Route): object => ({ ...route, stages: () => linked(world.huts, route.stages).map(hutOf) });
  const found = (id: string): Hut | undefined => world.huts.get(id);

  const handler = createHandler({
    schema,
    rootValue: {
      huts: ({ region, q }: { region?: string; q?: string }) => world.hutsLike(region, q).map(hutOf),
      hut: ({ id }: { id: string }) => {
        const hut = found(id);
        return hut ? hutOf(hut) : null;
      },
      routes: () => [...world.routes.values()].map(routeOf),
      bunks: ({ hut: id, night }: { hut: string; night: string }) => {
        const hut = found(id);
        if (!hut) throw new Error(`There is no hut ${id} in the network.`);
        if (!isNight(night)) throw new Error(`night is an ISO date such as 2026-11-27, but it is "${night}".`);
        return { ...world.bunks(hut, night), hut: hutOf(hut) };
      },
    },
  });
  const app = new Hono();
  app.all("/", (c) => handler(c.req.raw));
  return app;
}
