import "@angular/compiler";
import { Component } from "@angular/core";
import { bootstrapApplication } from "@angular/platform-browser";
import { provideServerRendering, renderApplication } from "@angular/platform-server";
import { injectReading, provideCache } from "cista/angular";
import { expect, test } from "vitest";
import { serverStage } from "./server-stage.js";

test("angular: the page is sent when its values have come, and nothing is left", async () => {
  const stage = serverStage();
  @Component({ selector: "server-hut", template: "<p>{{ hut.state() }} {{ hut.value() }}</p>" })
  class Hut {
    readonly hut = injectReading(stage.hut, () => 1);
  }
  const html = await renderApplication(
    (context: any) =>
      bootstrapApplication(Hut, { providers: [provideServerRendering(), provideCache(stage.cache)] }, context),
    { document: "<server-hut></server-hut>", url: "/" },
  );
  expect(html).toContain("<p>ready Harebell</p>");
  expect(stage.loads()).toBe(1);
  stage.check();
});
