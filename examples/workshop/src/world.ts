export type Status = "open" | "done";

export interface Job {
  id: string;
  title: string;
  status: Status;
  crew: string | null;
  photos: readonly string[];
}

export interface Crew {
  id: string;
  name: string;
  phone: string;
}

export interface Order {
  id: string;
  job: string;
  state: "queued" | "on its way" | "delivered";
}
