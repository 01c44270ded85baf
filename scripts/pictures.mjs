// Takes the pictures in docs/screenshots anew, from the demo's own data: `npm run pictures`.
// The terminal's needs (Debian): xvfb xterm imagemagick fonts-dejavu-core
import { spawn } from "node:child_process";
import { once } from "node:events";
import { join } from "node:path";
import { build as bundle } from "esbuild";
import { launchChromium } from "./browser.mjs";
import { nginxPath } from "./nginx.mjs";
import { build, root, run } from "./ready.mjs";
import { redisPath } from "./redis.mjs";

build();
const command = join(root, "packages/cli/bin/cista.mjs");
const demo = spawn(process.execPath, [command, "demo", "--port", "0"]);
const [text] = await once(demo.stdout, "data");
const url = /http:\S+/.exec(String(text))[0];
const browser = await launchChromium();

await board("board", { hash: "#h-07" });
await board("board-loading", { hash: "#h-07", fault: { path: "/", latency: 30_000 } });
await board("board-failed", { hash: "#h-07", fault: { path: "/api/huts/", failing: 1 }, wait: 7000 });
await board("board-missing-dark", { hash: "#h-99", colorScheme: "dark" });
await board("board-narrow", { hash: "#h-07", viewport: { width: 390, height: 844 } });
await board("lamp", {
  hash: "#h-07",
  act: async (page) => {
    const bunks = page.getByRole("region", { name: /^Bunks/ });
    await bunks.locator(".lamp").click();
    await bunks.getByLabel("slow").click();
    await page.waitForTimeout(400);
  },
});
await board("board-small", {
  hash: "vue/#h-07",
  act: async (page) => {
    for (let times = 0; times < 2; times++) {
      await page.getByRole("button", { name: "Book a bunk" }).click(); // the second time refused
      await page.waitForTimeout(700);
    }
  },
});
await workshop();
await board("board-kept", {
  hash: "#h-07",
  act: async (page) => {
    await page.context().setOffline(true);
    await page.getByRole("button", { name: "Book a bunk" }).click();
    await page.getByText("Waits to be sent").waitFor();
  },
});
// Last: its booking reaches the origin after the picture was taken.
await board("board-writes", {
  hash: "#h-07?route=r-1",
  act: async (page) => {
    await page.getByLabel("One night more at Scree Foot Hut").click(); // booked elsewhere: refused
    await page.waitForTimeout(600);
    await fetch(`${url}/origin/faults`, { method: "PUT", body: JSON.stringify({ path: "/api/", latency: 20_000 }) });
    await page.getByRole("button", { name: "Book a bunk" }).click();
  },
});

await browser.close();
await fetch(`${url}/origin/reset`, { method: "POST" });
run(
  "bash",
  ["scripts/terminal-picture.sh", "docs/screenshots/probe.png", process.execPath, command, "probe", `${url}/api/huts`],
  { env: { ...process.env, FONT_SIZE: "10", COLUMNS_ROWS: "158x48" } },
);
demo.kill("SIGTERM");
run("bash", ["scripts/terminal-picture.sh", "docs/screenshots/tour.png", process.execPath, command, "tour"], {
  env: { ...process.env, FONT_SIZE: "9", COLUMNS_ROWS: "176x53" }, // its last steps
});
await fleet();
run("npm", ["run", "day", "--silent", "--", join(root, "docs/screenshots/lamp-day.png")]);

/** What four processes of the board do, under a load. */
async function fleet() {
  const { book, startFleet, visit } = await import("../examples/board-server/fleet/run.mjs");
  const running = await startFleet({ nginx: nginxPath(), redisServer: redisPath() });
  await visit(running.url, 400);
  await book(running.url, "h-07", running.night);
  let isOver = false;
  const load = (async () => {
    while (!isOver) await visit(running.url, 20, 4);
  })();
  const watch = ["timeout", "9", process.execPath, command, "fleet", "watch", "--redis", running.redisUrl];
  await new Promise((resolve) =>
    spawn("bash", ["scripts/terminal-picture.sh", "docs/screenshots/fleet.png", ...watch], {
      cwd: root,
      stdio: "inherit",
      env: { ...process.env, COLUMNS_ROWS: "158x44" },
    }).on("exit", resolve),
  );
  isOver = true;
  await load;
  await running.close();
}

/** The workshop with its own server. */
async function workshop() {
  const outfile = join(root, "examples/workshop/dist/server.mjs");
  run("npm", ["run", "build", "-w", "@cista/example-workshop"]);
  await bundle({
    entryPoints: [join(root, "examples/workshop/server/index.ts")],
    outfile,
    bundle: true,
    platform: "node",
    format: "esm",
    packages: "external",
  });
  const { startWorkshop } = await import(outfile);
  const server = await startWorkshop(join(root, "examples/workshop/dist"));
  const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
  await page.goto(`${server.url}/#j4`);
  await page.getByRole("button", { name: "Mark as done" }).click();
  await page.getByRole("button", { name: "Dismiss" }).waitFor();
  await page.screenshot({ path: join(root, "docs/screenshots/workshop.png") });
  await page.close();
  await server.close();
}

async function board(
  name,
  { hash, fault, act = async () => {}, wait = 1200, viewport = { width: 1280, height: 800 }, colorScheme = "light" },
) {
  await fetch(`${url}/origin/reset`, { method: "POST" });
  if (fault) await fetch(`${url}/origin/faults`, { method: "PUT", body: JSON.stringify(fault) });
  const page = await browser.newPage({ viewport, colorScheme });
  await page.goto(`${url}/${hash}`);
  await page.waitForTimeout(wait);
  await act(page);
  await page.waitForTimeout(200);
  await page.screenshot({ path: join(root, `docs/screenshots/${name}.png`) });
  await page.close();
}
