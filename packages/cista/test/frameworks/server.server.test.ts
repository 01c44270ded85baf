import { render as litRender } from "@lit-labs/ssr";
import { collectResult } from "@lit-labs/ssr/lib/render-result.js";
import { renderToString as vueToString } from "@vue/server-renderer";
import { ReadingController } from "cista/lit";
import { CistaProvider as PreactProvider, useReading as usePreactReading } from "cista/preact";
import { CistaProvider, useReading } from "cista/react";
import { contextOf } from "cista/svelte";
import { CistaPlugin, useReading as useVueReading, useValue as useVueValue } from "cista/vue";
import { html, LitElement } from "lit";
import { h as preact } from "preact";
import { renderToString as preactToString } from "preact-render-to-string";
import { createElement } from "react";
import { renderToString as reactToString } from "react-dom/server";
import { render as svelteRender } from "svelte/server";
import { expect, test } from "vitest";
import { createSSRApp, defineComponent, Suspense, h as vue } from "vue";
import { serverStage } from "./server-stage.js";
import SvelteReading from "./svelte/Reading.svelte";
import SvelteValue from "./svelte/Value.svelte";

// On a server a reading attaches to nothing and asks for nothing; what has been read is there; what a component awaits is read.

test("vue: a reading asks for nothing, an awaited value is rendered, nothing is left", async () => {
  const stage = serverStage();
  const Reading = defineComponent(() => {
    const reading = useVueReading(stage.hut, 1);
    return () => vue("p", `${reading.state} ${reading.value}`);
  });
  const Value = defineComponent(async () => {
    const value = await useVueValue(stage.hut, 1);
    return () => vue("p", value.value);
  });
  const render = (component: any) => {
    const tree = () => vue(Suspense, null, { default: () => vue(component) });
    return vueToString(createSSRApp({ render: tree }).use(CistaPlugin, stage.cache));
  };
  expect(await render(Reading)).toBe("<p>loading undefined</p>");
  expect(stage.loads()).toBe(0);
  expect(await render(Value)).toBe("<p>Harebell</p>");
  expect(await render(Reading)).toBe("<p>ready Harebell</p>");
  expect(stage.loads()).toBe(1);
  stage.check();
});

test("svelte: a reading asks for nothing, an awaited value is rendered, nothing is left", async () => {
  const stage = serverStage();
  const render = async (component: any) => {
    const { body } = await svelteRender(component, { props: { source: stage.hut }, context: contextOf(stage.cache) });
    return body.replace(/<!--.*?-->/g, "");
  };
  expect(await render(SvelteReading)).toBe("<p>loading </p>");
  expect(stage.loads()).toBe(0);
  expect(await render(SvelteValue)).toBe("<p>Harebell</p>");
  expect(await render(SvelteReading)).toBe("<p>ready Harebell</p>");
  expect(stage.loads()).toBe(1);
  stage.check();
});

test("preact: a reading asks for nothing, a value that was read before is rendered, nothing is left", async () => {
  const stage = serverStage();
  const Hut = () => {
    const reading = usePreactReading(stage.hut, 1);
    return preact("p", null, `${reading.state} ${reading.value}`);
  };
  const render = () => preactToString(preact(PreactProvider, { cache: stage.cache }, preact(Hut, null)));
  expect(render()).toBe("<p>loading undefined</p>");
  expect(stage.loads()).toBe(0);
  await stage.cache.read(stage.hut, 1);
  expect(render()).toBe("<p>ready Harebell</p>");
  stage.check();
});

test("react: a reading asks for nothing, a value that was read before is rendered, nothing is left", async () => {
  const stage = serverStage();
  const Hut = () => {
    const reading = useReading(stage.hut, 1);
    return createElement("p", null, `${reading.state} ${reading.value}`);
  };
  const render = () => reactToString(createElement(CistaProvider, { cache: stage.cache }, createElement(Hut)));
  expect(render()).toBe("<p>loading undefined</p>");
  expect(stage.loads()).toBe(0);
  await stage.cache.read(stage.hut, 1);
  expect(render()).toBe("<p>ready Harebell</p>");
  stage.check();
});

test("lit: a reading asks for nothing, a value that was read before is rendered, nothing is left", async () => {
  const stage = serverStage();
  class Hut extends LitElement {
    readonly #hut = new ReadingController(this, stage.hut, () => 1, { cache: stage.cache });
    override render() {
      return html`<p>${this.#hut.reading.state} ${this.#hut.reading.value}</p>`;
    }
  }
  customElements.define("server-hut", Hut);
  const render = async () =>
    (await collectResult(litRender(html`<server-hut></server-hut>`))).replace(/<!--.*?-->/g, "");
  expect(await render()).toContain("<p>loading </p>");
  expect(stage.loads()).toBe(0);
  await stage.cache.read(stage.hut, 1);
  expect(await render()).toContain("<p>ready Harebell</p>");
  stage.check();
});
