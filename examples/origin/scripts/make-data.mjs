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

// ── What walkers wrote, what the network says ────────────────────────────────

const walkers = "Wren,Tobin,Marla,Osk,Liv,Perrin,Hana,Joss,Edda,Rafe,Sunniva,Cale,Brigid,Noor,Alf,Tamsin".split(",");
const noted = [
  [
    "Snow to the door",
    "Clear and cold",
    "Fog all the way up",
    "Wet boots, dry spirits",
    "First frost on the tarn",
    "Wind from the west all night",
    "Warm for the season",
    "Stars like I never saw",
  ],
  [
    "stove draws well",
    "water is low, go easy",
    "mice in the porch again",
    "the lamp needs oil",
    "wood is dry and plenty",
    "top bunk creaks",
    "left a tin of tea",
    "the bridge below is icy",
  ],
  [
    "On to the saddle tomorrow.",
    "Thank you, warden.",
    "Down to the valley by noon.",
    "Will be back in spring.",
    "Mind the scree.",
    "Two of us, one dog.",
    "Nobody met since the ford.",
    "Resting a day here.",
  ],
];
const hours = 3_600_000;
const newest = Date.UTC(2026, 10, 23, 6);
const logbook = huts.flatMap((hut) => {
  let at = newest;
  return Array.from({ length: between(20, 200) }, (_, index) => {
    at -= between(2, 60) * hours;
    const text = `${oneOf(noted[0])}; ${oneOf(noted[1])}. ${oneOf(noted[2])}`;
    return { id: `${hut.id}-${9000 - index}`, at: new Date(at).toISOString().slice(0, 16), by: oneOf(walkers), text };
  });
});

const walls = ["Drystone under turf", "Larch boards on a stone foot", "Whitewashed rubble", "Slate from roof to sill"];
const views = [
  "the whole of the lower fells",
  "nothing but bog and sky",
  "the tarn, and the path you came by",
  "three ridges, one behind the other",
];
const customs = [
  "Boots stay in the porch",
  "The last one out sweeps",
  "Whoever wakes first lights the stove",
  "Wet ropes hang from the third beam",
];
const portraits = huts.map((hut) => ({
  hut: hut.id,
  text: [
    `${hut.name} stands ${hut.altitude} metres up in ${hut.region}. ${oneOf(walls)}, it has ${hut.bunks} bunks and one long table, and looks out over ${oneOf(views)}.`,
    `It was raised in ${between(1871, 1964)} by the walkers of the valley, who carried every board. ${hut.warden} keeps it now. ${oneOf(customs)}; ${oneOf(customs).toLowerCase()}.`,
    `There is a spring ${between(2, 40) * 10} paces off. In a hard winter the door opens on snow, and the way in is by the loft.`,
  ].join("\n\n"),
}));

const said = [
  ["Snow bridge gone below the pass", 2],
  ["Ford at Otter Pool knee-deep, poles advised", 8],
  ["Ice on the north steps", 5],
  ["Stove out of use, bring a burner", 13],
  ["Path re-marked above the bog", undefined],
  ["Gale warning for Corrie Tops from noon", undefined],
  ["Spring running again", 20],
  ["Fallen larch across the way, step round", 33],
];
const notices = said.map(([text, hut], index) => ({
  id: String(index + 1),
  at: new Date(newest - (said.length - index) * 5 * hours).toISOString(),
  text,
  ...(hut ? { hut: id(hut) } : {}),
}));

write("huts", huts);
write("routes", routes);
write("logbook", logbook);
write("portraits", portraits);
write("notices", notices);
console.log(`${huts.length} huts, ${routes.length} routes, ${logbook.length} notes, ${notices.length} notices`);
