import type { PositioningRequest } from "@/shared/api/client";

export type Against = NonNullable<PositioningRequest["against"]>;

/** What the positions of now are held against. */
export const AGAINST: [Against, string][] = [
  ["snapshot", "last snapshot"],
  ["yesterday", "yesterday"],
  ["week", "5 sessions ago"],
];
