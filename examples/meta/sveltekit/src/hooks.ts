import { browserCache, HeldCache } from "$lib/cista";

export const transport = {
  HeldCache: {
    encode: (value: unknown) => value instanceof HeldCache,
    decode: () => browserCache && new HeldCache(browserCache),
  },
};
