// Days on which programs that look at the calendar tend to fail. CI runs the tests on one of them, chosen by the commit.
import { spawnSync } from "node:child_process";
import { root } from "./ready.mjs";

/** A time zone, and the machine's date and time there when the tests begin. */
const days = [
  { zone: "Pacific/Auckland", date: "2031-07-14 09:00:00" },
  { zone: "Pacific/Honolulu", date: "2028-02-29 12:00:00" },
  { zone: "UTC", date: "2026-12-31 23:59:00" },
  { zone: "Europe/Zurich", date: "2027-03-28 01:59:00" }, // clocks go forward at two
  { zone: "America/New_York", date: "2027-11-07 01:55:00" }, // clocks go back at two
  { zone: "Pacific/Auckland", date: "2024-02-29 23:59:00" },
];

/** @param which the number of a day, or "commit" for the one that the newest commit chooses; undefined for none */
export function dayOf(which) {
  if (!which) return undefined;
  if (which !== "commit") return days[Number(which) % days.length];
  return days[numberOf("HEAD") % days.length];
}

/** A number that the hash of a commit, or of its files, makes; 0 without a repository. */
export function numberOf(revision) {
  const { stdout } = spawnSync("git", ["rev-parse", revision], { cwd: root, encoding: "utf8" });
  return Number.parseInt(stdout?.slice(0, 7) || "0", 16) || 0;
}
