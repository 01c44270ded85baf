import { huts, me } from "$lib/sources";

// A document only: a navigation asks in the browser, and this server for nothing.
export const load = async ({ locals: { page }, isDataRequest }) => {
  if (!isDataRequest) await Promise.all([page.show(huts), page.show(me)]);
};
