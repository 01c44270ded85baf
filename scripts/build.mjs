// `node scripts/build.mjs`: builds what is missing or older than its sources (see ready.mjs).
import { build } from "./ready.mjs";

build();
