import "@angular/compiler";
import { Component } from "@angular/core";
import { TestBed } from "@angular/core/testing";
import { BrowserTestingModule, platformBrowserTesting } from "@angular/platform-browser/testing";
import { injectReading, provideCache } from "cista/angular";
import { cacheForTest, standInServer } from "cista/rehearsal";
import { expect, onTestFinished, test, vi } from "vitest";
import { hut } from "./hut.js";

// With the Angular CLI these two lines are not needed: it prepares the test bed itself.
TestBed.initTestEnvironment(BrowserTestingModule, platformBrowserTesting());

@Component({ template: `<h1>{{ hut.value()?.name ?? hut.state() }}</h1>` })
class HutName {
  hut = injectReading(hut, { id: "h-07" });
}

test("shows the hut's name, and asks for it once", async () => {
  const server = standInServer({ "/api/huts/:id": () => ({ name: "Harebell Hut" }) });
  vi.stubGlobal("fetch", server.fetch);
  onTestFinished(() => void vi.unstubAllGlobals());
  const { cache } = cacheForTest(onTestFinished);
  TestBed.configureTestingModule({ providers: [provideCache(cache)] });
  const { nativeElement: element } = TestBed.createComponent(HutName);
  await expect.poll(() => element.textContent).toBe("Harebell Hut");
  expect(server.asked).toEqual(["GET /api/huts/h-07"]);
});
