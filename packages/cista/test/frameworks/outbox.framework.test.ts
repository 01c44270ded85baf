import "@angular/compiler";
import { Component, provideZonelessChangeDetection } from "@angular/core";
import { createApplication } from "@angular/platform-browser";
import { injectOutbox } from "cista/angular";
import { OutboxController } from "cista/lit";
import { outboxList } from "cista/plain";
import { useOutbox as usePreact } from "cista/preact";
import { useOutbox as useReact } from "cista/react";
import { createOutbox } from "cista/solid";
import { useOutbox as useVue } from "cista/vue";
import { LitElement } from "lit";
import { h as preact, render as preactRender } from "preact";
import { createElement } from "react";
import { createRoot as reactRoot } from "react-dom/client";
import { createEffect, createRoot as solidRoot } from "solid-js";
import { mount, unmount } from "svelte";
import { expect, test } from "vitest";
import { createApp, h as vue } from "vue";
import OutboxList from "./OutboxList.svelte";

// What waits in an outbox, in each framework: shown as it is, and after each change; left when the component goes.

function outbox() {
  const listeners = new Set<() => void>();
  let list: readonly string[] = ["a"];
  return {
    list: () => list,
    subscribe(listener: () => void) {
      const own = () => listener();
      listeners.add(own);
      return () => void listeners.delete(own);
    },
    set(next: readonly string[]) {
      list = next;
      for (const listener of [...listeners]) listener();
    },
    get watchers() {
      return listeners.size;
    },
  };
}
type Listed = ReturnType<typeof outbox>;

let elements = 0;
const mounts: Record<string, (box: Listed, element: HTMLElement) => () => void | Promise<void>> = {
  react(box, element) {
    const root = reactRoot(element);
    const List = () => createElement("p", null, useReact(box).join());
    root.render(createElement(List));
    return () => root.unmount();
  },
  preact(box, element) {
    const List = () => preact("p", null, usePreact(box).join());
    preactRender(preact(List, null), element);
    return () => preactRender(null, element);
  },
  vue(box, element) {
    const app = createApp({
      setup() {
        // biome-ignore lint/correctness/useHookAtTopLevel: Vue's composables are called in setup
        const list = useVue<string>(box);
        return () => vue("p", list.value.join());
      },
    });
    app.mount(element);
    return () => app.unmount();
  },
  svelte(box, target) {
    const shown = mount(OutboxList, { target, props: { outbox: box } });
    return () => unmount(shown);
  },
  solid(box, element) {
    return solidRoot((dispose) => {
      const list = createOutbox<string>(box);
      createEffect(() => {
        element.textContent = list().join();
      });
      return dispose;
    });
  },
  angular(box, element) {
    @Component({ selector: "outbox-list", template: "{{ list().join() }}" })
    class List {
      readonly list = injectOutbox<string>(box);
    }
    const host = element.appendChild(document.createElement("outbox-list"));
    const started = createApplication({ providers: [provideZonelessChangeDetection()] }).then((app) => {
      app.bootstrap(List, host);
      return app;
    });
    return async () => (await started).destroy();
  },
  lit(box, element) {
    class List extends LitElement {
      readonly #waiting = new OutboxController(this, box);
      override createRenderRoot() {
        return this;
      }
      override render() {
        return this.#waiting.list.join();
      }
    }
    const name = `outbox-list-${++elements}`;
    customElements.define(name, List);
    element.append(document.createElement(name));
    return () => element.replaceChildren();
  },
  plain(box, element) {
    return outboxList(box, (list) => {
      element.textContent = list.join();
    });
  },
};

test.each(Object.entries(mounts))("%s: the list as it is, and after each change", async (_, mountIn) => {
  const box = outbox();
  const element = document.body.appendChild(document.createElement("div"));
  const end = mountIn(box, element);
  await expect.poll(() => element.textContent).toBe("a");
  await expect.poll(() => box.watchers).toBe(1);
  box.set(["a", "b"]);
  await expect.poll(() => element.textContent).toBe("a,b");
  await end();
  await expect.poll(() => box.watchers).toBe(0);
  element.remove();
});
