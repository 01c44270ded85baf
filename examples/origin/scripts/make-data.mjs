// Makes the hut network's data, the same on every run: `npm run data`. All of it is made up.
import { writeFileSync } from "node:fs";

let state = 20261123;
const random = () => {
  state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
  return state / 2 ** 32;
};
const between = (low, high) => low + Math.floor(random() * (high - low + 1));
const oneOf = (list) => list[between(0, list.length - 1)];

const regions = ["Ashdale", "Corrie Tops", "Lower Fells", "Saltmarch"];
const places = (
  "Tarnhead,Rowan Gap,Scree Foot,Blackwater,Lambing Stone,Crow Step,Harebell,Long Shelf,Otter Pool,Kestrel Nook," +
  "Windy Ley,Peat Hag,Silver Beck,Cairn End,Thistle Row,Upper Sike,Moss Door,Hollow Ash,Grey Mare,Fold Gate," +
  "Raven Sill,Quarry Rest,Bracken Lea,Stag Wade,Ling Top,Frost Bield,Juniper Knot,Low Saddle,High Saddle,Mist Burn," +
  "Old Shieling,Heron Bank,Dun Crag,Larch Turn,Snow Post,Far Lantern"
).split(",");
const wardens = (
  "Ada Thornby,Bram Ellwick,Cora Dunmere,Davin Holt,Edda Marrick,Fenn Oakley,Greta Stanmoor,Hale Brigg,Ivo Carrow," +
  "Juna Fellside,Kit Wastdene,Lio Harrop"
).split(",");
const seasons = [
  [5, 10],
  [4, 11],
  [1, 12],
  [6, 9],
];

const id = (n) => `h-${String(n).padStart(2, "0")}`;
const huts = places.map((name, index) => {
  const [from, to] = oneOf(seasons);
  return {
    id: id(index + 1),
    name: `${name} Hut`,
    region: regions[index % regions.length],
    altitude: between(18, 142) * 10,
    bunks: between(6, 32),
    warden: oneOf(wardens),
    water: between(4, 90) * 10,
    openMonths: Array.from({ length: to - from + 1 }, (_, month) => from + month),
    routes: [],
  };
});

const routeNames = [
  "The Lantern Way",
  "Tarn Round",
  "Salt Road",
  "Crow Steps",
  "Ashdale Traverse",
  "Peat Line",
  "High Saddle Walk",
  "Heron Circuit",
];
const routes = routeNames.map((name, index) => {
  const stages = new Set();
  while (stages.size < between(4, 8)) stages.add(between(1, huts.length));
  const route = {
    id: `r-${index + 1}`,
    name,
    kilometres: between(28, 140),
    climb: between(12, 64) * 100,
    stages: [...stages].map((n) => `/api/huts/${id(n)}`),
  };
  for (const n of stages) huts[n - 1].routes.push(`/api/routes/${route.id}`);
  return route;
});

const write = (name, rows) =>
  writeFileSync(
    new URL(`../data/${name}.json`, import.meta.url),
    `[\n${rows.map((row) => `  ${JSON.stringify(row)}`).join(",\n")}\n]\n`,
  );
write("huts", huts);
write("routes", routes);
console.log(`${huts.length} huts, ${routes.length} routes`);
