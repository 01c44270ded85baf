import { receivePage } from "cista/browser";
import { CistaProvider } from "cista/react";
import { startTransition } from "react";
import { hydrateRoot } from "react-dom/client";
import { HydratedRouter } from "react-router/dom";
import { browserCache } from "./cista";

if (browserCache) {
  const cache = browserCache;
  await receivePage(cache);
  startTransition(() => {
    hydrateRoot(
      document,
      <CistaProvider cache={cache}>
        <HydratedRouter />
      </CistaProvider>,
    );
  });
}
