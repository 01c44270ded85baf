import {
  DestroyRef,
  DOCUMENT,
  inject,
  mergeApplicationConfig,
  provideEnvironmentInitializer,
  REQUEST,
} from "@angular/core";
import { type BootstrapContext, bootstrapApplication } from "@angular/platform-browser";
import { BEFORE_APP_SERIALIZED } from "@angular/platform-server";
import { createCache } from "cista";
import { provideCache } from "cista/angular";
import { openPage } from "cista/server";
import { App } from "./app/app";
import { config } from "./app/app.config.server";

export default (context: BootstrapContext) => {
  const request = context.platformRef?.injector.get(REQUEST, null); // none while the routes are extracted
  const cache = createCache({ context: { cookie: request?.headers.get("cookie") ?? undefined } });
  const page = openPage(cache);
  const bringValues = () => {
    const document = inject(DOCUMENT);
    return () => document.body.insertAdjacentHTML("beforeend", page.html());
  };
  const providers = [
    provideCache(cache),
    { provide: BEFORE_APP_SERIALIZED, multi: true, useFactory: bringValues },
    provideEnvironmentInitializer(() => inject(DestroyRef).onDestroy(() => page.close())),
  ];
  return bootstrapApplication(App, mergeApplicationConfig(config, { providers }), context);
};
