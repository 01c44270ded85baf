/** @jsxImportSource solid-js */
import { CistaProvider, createReading, createValue } from "cista/solid";
import { Suspense } from "solid-js";
import { renderToString, renderToStringAsync } from "solid-js/web";
import { expect, test } from "vitest";
import { serverStage } from "./server-stage.js";

test("solid: a reading asks for nothing, a value is waited for and rendered, nothing is left", async () => {
  const stage = serverStage();
  function Reading() {
    const reading = createReading(stage.hut, 1);
    return <p>{`${reading.state} ${reading.value}`}</p>;
  }
  function Value() {
    const value = createValue(stage.hut, 1);
    return <p>{value()}</p>;
  }
  const plain = (html: string) =>
    html.replace(/ data-hk="[^"]*"| data-hk=\S+?(?=>)|<!--.*?-->|<script.*?<\/script>/g, "");
  const first = renderToString(() => (
    <CistaProvider cache={stage.cache}>
      <Reading />
    </CistaProvider>
  ));
  expect(plain(first)).toBe("<p>loading undefined</p>");
  expect(stage.loads()).toBe(0);
  const later = await renderToStringAsync(() => (
    <CistaProvider cache={stage.cache}>
      <Suspense fallback="waiting">
        <Value />
      </Suspense>
    </CistaProvider>
  ));
  expect(plain(later)).toContain("<p>Harebell</p>");
  expect(stage.loads()).toBe(1);
  stage.check();
});
