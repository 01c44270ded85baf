import { HeldCache } from "$lib/cista";

export const load = ({ locals }) => ({ held: new HeldCache(locals.cache) });
