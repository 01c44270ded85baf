import { mergeApplicationConfig } from "@angular/core";
import { bootstrapApplication } from "@angular/platform-browser";
import { createCache } from "cista";
import { provideCache } from "cista/angular";
import { receivePage } from "cista/browser";
import { App } from "./app/app";
import { appConfig } from "./app/app.config";

const cache = createCache();
receivePage(cache)
  .then(() => bootstrapApplication(App, mergeApplicationConfig(appConfig, { providers: [provideCache(cache)] })))
  .catch((thrown) => console.error(thrown));
