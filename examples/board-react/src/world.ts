// What the origin sends, as far as the board shows it.

export interface Hut {
  id: string;
  name: string;
  region: string;
  altitude: number;
  bunks: number;
  warden: string;
  water: number;
  openMonths: number[];
  routes: string[];
}
export interface Bunks {
  night: string;
  free: number;
  of: number;
}
export interface Night {
  night: string;
  hut: string;
  name: string;
  /** Shown, but not confirmed yet. */
  pending?: true;
}
export interface Route {
  id: string;
  name: string;
  kilometres: number;
  climb: number;
  stages: string[];
}
export interface Notice {
  id: string;
  text: string;
  hut?: string;
}
export interface Note {
  id: string;
  at: string;
  by: string;
  text: string;
  pending?: true;
}

/** What a person is told of something that failed: in the server's own words, where it sent some (RFC 9457). */
export interface Told {
  readonly kind: string;
  readonly message: string;
  readonly problem?: { readonly title?: string; readonly detail?: string };
}

/** Of a link: the id of what it leads to. */
export function lastPart(link: string): string {
  return link.slice(link.lastIndexOf("/") + 1);
}
