import { CistaError } from "cista";
import { expect, vi } from "vitest";
import { heldSource } from "../stage.js";
import { can, mount, options, page, reported, settle, test, text, threw } from "./stage.js";

/** Errors of panels, of params, of a page without a provider. */
export function failing(): void {
  test("C-E1 a panel that throws on a value: the others show it", async () => {
    options.expectsTrouble = true;
    vi.spyOn(console, "error").mockImplementation(() => {});
    vi.spyOn(console, "warn").mockImplementation(() => {});
    const { source: hut, loads } = heldSource("hut");
    const pick = (value: any) => {
      if (value === "bad") throw new Error("pick cannot have this");
      return value;
    };
    await mount({
      a: { kind: "outcome", source: hut, params: 1 },
      broken: { kind: "outcome", source: hut, params: 1, pick },
      b: { kind: "outcome", source: hut, params: 1 },
    });
    loads[0]?.answer("bad");
    await settle().catch((error) => threw.push(error));
    await settle().catch((error) => threw.push(error));
    expect([text("a"), text("b")]).toEqual(["ready bad", "ready bad"]);
    const told = () => [...threw, ...reported].map((error: any) => error?.message ?? error?.error?.message);
    await vi.waitFor(() => expect(told()).toContain("pick cannot have this")); // unhandledrejection is an event of its own
  });

  if (can("provider")) {
    test("C-E2 no provider: a CistaError with the remedy reaches the framework's own handler", async () => {
      options.expectsTrouble = true;
      vi.spyOn(console, "error").mockImplementation(() => {});
      vi.spyOn(console, "warn").mockImplementation(() => {});
      const { source: hut } = heldSource("hut");
      await mount({ a: { kind: "outcome", source: hut, params: 1 } }, false).catch((error) => threw.push(error));
      const codes = () =>
        [...threw, ...reported].map((error: any) => (error instanceof CistaError ? error.code : String(error)));
      await vi.waitFor(() => expect(codes()).toContain("no-provider"));
    });
  }

  test("C-E3 params that cannot make a key: a CistaError that names the path, and the others go on", async () => {
    options.expectsTrouble = true;
    vi.spyOn(console, "error").mockImplementation(() => {});
    vi.spyOn(console, "warn").mockImplementation(() => {});
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "outcome", source: hut, params: 1 }, b: { kind: "outcome", source: hut, params: 1 } });
    try {
      page?.give("a", { params: { at: Number.NaN } });
    } catch (error) {
      threw.push(error); // where giving is a call of the program's own
    }
    await settle().catch((error) => threw.push(error));
    loads[0]?.answer("x");
    await settle().catch((error) => threw.push(error));
    expect(text("b")).toBe("ready x");
    const told = () => [...threw, ...reported].map((error: any) => error?.message ?? String(error)).join();
    await vi.waitFor(() => expect(told()).toMatch(/params\.at is NaN/));
  });
}
