import { createCache } from "cista";
import { openPage, type ServerPage } from "cista/server";
import { cookies } from "next/headers";
import { after } from "next/server";
import { cache as onceARequest, type ReactNode } from "react";
import { Restore } from "./provider";

/** Server components of one request share what they ask for. */
const request = onceARequest(async () => {
  const cache = createCache({ context: { cookie: (await cookies()).toString() } });
  const page = openPage(cache);
  after(() => page.close());
  return page;
});

/** The values that `load` shows are there for the client components inside. A failed one is left to the browser. */
export async function Held({ load, children }: { load(page: ServerPage): Promise<unknown>; children: ReactNode }) {
  const page = await request();
  await load(page);
  return <Restore text={page.json()}>{children}</Restore>;
}
