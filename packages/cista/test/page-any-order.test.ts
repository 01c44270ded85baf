import * as cista from "cista";
import * as http from "cista/http";
import { expect, test, vi } from "vitest";
import { programsOf } from "./model/programs.js";
import { type Library, type Settings, Site, type Who } from "./model/site.js";

// One site with all on at once, in random programs: see model/site.ts.

const { runs, seed: first, ran } = programsOf("pages", 50, 20);

function settingsOf(seed: number): Settings {
  const at = <T>(all: readonly T[], by: number): T => all[Math.floor(seed / by) % all.length] as T;
  const who = at<Who>(["user", "token", "late"], 1);
  return {
    who,
    isTokenSlow: who === "user" && at([true, false], 648),
    joined: at([true, false], 3),
    stored: at([true, false], 6),
    kept: at([true, false], 12),
    maxAge: at([600, 5, 86_400 * 90], 24),
    latency: at([1, 60, 400], 72),
    isTopPut: seed % 5 === 0,
    isPublic: seed % 7 < 3,
    isOtherCopy: at([false, false, true], 216),
  };
}

async function otherCopy(): Promise<Library> {
  vi.resetModules();
  const copy = { ...(await import("cista")), ...(await import("cista/http")) };
  expect(copy.origin).not.toBe(http.origin);
  return copy;
}

test(`F2, F9, D1: at rest every page shows what is so, in any order, with all on at once (seed ${first})`, {
  timeout: 3_600_000,
}, async () => {
  vi.spyOn(console, "warn").mockImplementation(() => {});
  const unhandled: unknown[] = [];
  const note = (reason: unknown) => unhandled.push(reason);
  process.on("unhandledRejection", note);
  const copy = await otherCopy();
  for (let seed = first; seed < first + runs; seed++) {
    const settings = settingsOf(seed);
    const site = new Site(seed, settings, settings.isOtherCopy ? copy : { ...cista, ...http });
    ran(40);
    await site.run(40).catch((thrown: Error) => {
      const said = `seed ${seed} ${JSON.stringify(settings)}\n${site.steps.join("\n")}`;
      throw new Error(`${thrown.message}\n${said}`, { cause: thrown });
    });
    expect(unhandled.splice(0), `seed ${seed}`).toEqual([]);
  }
  process.off("unhandledRejection", note);
  vi.restoreAllMocks();
  vi.unstubAllGlobals();
});
