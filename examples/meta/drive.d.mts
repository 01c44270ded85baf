import type { Browser } from "playwright";
import type { Origin } from "./apps.mjs";

export interface Step {
  server: string[];
  browser: string[];
  shown: Record<string, string>;
  status: number | undefined;
}
export declare function visit(
  browser: Browser,
  origin: Origin,
  visitor?: string,
): Promise<{ steps: Record<string, Step>; console: string[]; html: { list: string } }>;
export declare function twoVisitors(origin: Origin): Promise<string[]>;
