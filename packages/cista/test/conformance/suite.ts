import { describe } from "vitest";
import { comingAndGoing } from "./coming.js";
import type { Driver } from "./driver.js";
import { ending } from "./ending.js";
import { failing } from "./failing.js";
import { following } from "./following.js";
import { lists } from "./lists.js";
import { looking } from "./looking.js";
import { sharing } from "./sharing.js";
import { drawBy } from "./stage.js";
import { waiting } from "./waiting.js";
import { writing } from "./writing.js";

/** The promises of every binding, in a real browser. */
export function conformance(driver: Driver): void {
  drawBy(driver);
  describe(driver.framework, () => {
    for (const tests of [sharing, looking, following, comingAndGoing, failing, lists, writing, ending, waiting])
      tests();
  });
}
