import { createCache, source } from "cista";
import { virtualClock } from "cista/rehearsal";

const clock = virtualClock();
const cache = createCache({ clock });

// A question to the person: no network, no second try, and only when they ask for it.
const position = source({
  name: "position",
  network: false,
  retry: false,
  maxAge: "10m",
  load: async () => ({ metres: 412 }), // navigator.geolocation would ask here
});
const view = cache.view(position, undefined, { when: false });
view.subscribe(() => {});
await clock.advance("1s");
console.log("attached:", view.get().state);
await view.revalidate();
console.log("asked:", view.get().state, view.get().value);

// A computation: kept for as long as the page is open.
const noon = source({
  name: "noon",
  network: false,
  maxAge: Infinity,
  load: (day: number) => `${12 + (day % 2)}:0${day % 7}`,
});
console.log("computed:", await cache.read(noon, 23), await cache.read(noon, 23));

// Something that keeps coming.
const gauge = source({
  name: "gauge",
  load: async function* (hut: string) {
    for (let litres = 90; litres > 60; litres -= 10) {
      yield { hut, litres };
      await new Promise((resolve) => clock.setTimer(() => resolve(undefined), 1000));
    }
  },
});
const tank = cache.view(gauge, "h-07");
const leave = tank.subscribe(() => {
  const { state, value, fresh, request } = tank.get();
  console.log(`the gauge: ${state} ${value?.litres ?? ""}, ${fresh ? "fresh" : "not fresh"}, ${request}`);
});
await clock.advance("5s");
leave(); // the last one who watches closes the stream
cache.dispose();
