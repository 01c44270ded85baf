import type { Cache } from "cista";
import { CistaProvider } from "cista/react";
import type { ReactNode } from "react";
import { createRoot } from "react-dom/client";

/** Puts components on the page; `look` is what can be read there when the next frame has been drawn. */
export function show(cache: Cache, tree: ReactNode) {
  const place = document.body.appendChild(document.createElement("main"));
  const root = createRoot(place);
  root.render(<CistaProvider cache={cache}>{tree}</CistaProvider>);
  const drawn = () => new Promise((resolve) => requestAnimationFrame(() => setTimeout(resolve)));
  return {
    /** @param awaited looks until that is there, for two seconds at most: React keeps a fallback for a while */
    async look(awaited = ""): Promise<string> {
      await drawn();
      await drawn();
      for (let frame = 0; frame < 120 && !place.textContent?.includes(awaited); frame++) await drawn();
      return [...place.querySelectorAll("p")].map((line) => line.textContent).join(" | ");
    },
    async press(name: string): Promise<void> {
      await drawn();
      [...place.querySelectorAll("button")].find((button) => button.textContent === name)?.click();
    },
    end(): void {
      root.unmount();
      place.remove();
      cache.dispose();
    },
  };
}
