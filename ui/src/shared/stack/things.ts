import type { Schemas } from "@/shared/api/client";

/** A table of things that a stack of rules runs on, and how they are called. */
export type Things = { table: Schemas["ScreenBody"]["table"]; page: string; title: string; one: string; many: string };

export const NAMES: Things = { table: "names", page: "/screen", title: "Screen", one: "name", many: "names" };
/** Names as the Off-exchange page looks at them. */
export const PRINTED: Things = { ...NAMES, page: "/off-exchange", title: "Off-exchange" };
export const TICKETS: Things = { table: "tickets", page: "/tape", title: "Tape", one: "ticket", many: "tickets" };
export const STRUCTURES: Things = {
  table: "structures",
  page: "/structures",
  title: "Structures",
  one: "structure",
  many: "structures",
};
