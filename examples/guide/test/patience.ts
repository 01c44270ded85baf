import { expect } from "vitest";

// As vitest.config.ts says, for the library that the guide's tests use. Only for these: it brings React with it, and other
// tests put tools of their own in place before React is loaded.
if (expect.getState().testPath?.includes("/guide/")) {
  const { configure } = await import("@testing-library/react");
  configure({ asyncUtilTimeout: 180_000 });
}
