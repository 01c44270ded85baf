import { error } from "@sveltejs/kit";
import { hut } from "$lib/sources";

export const load = async ({ locals: { page }, params, isDataRequest }) => {
  if (isDataRequest) return;
  const { state } = await page.show(hut, params);
  if (state === "missing") error(404, "No such hut");
};
