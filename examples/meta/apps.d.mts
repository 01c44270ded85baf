export declare const apps: Record<string, string>;
export declare function packLibrary(folder: string): string;
export declare function build(
  name: string,
  library: string,
  folder?: string,
): Promise<{ folder: string; said: string }>;
export declare function start(folder: string): Promise<{ origin: Origin; close(): Promise<void>; said(): string }>;
export declare function remove(folder: string): void;
export interface Origin {
  readonly url: string;
  takeAsked(): { server: string[]; browser: string[] };
  countAsked(): number;
}
