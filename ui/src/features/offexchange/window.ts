import type { Schemas } from "@/shared/api/client";
import { readNumber } from "@/shared/stack/state";
import { readDays } from "@/shared/ui/PrintWindow";

export type Window = Required<Schemas["Window"]>;
export type Position = Schemas["PrintsName"]["position"];
export const POSITIONS: Position[] = ["above all", "within", "below all", "none that large", "none"];
const USUAL_SIZE = 1_000_000;

/** The window and size that an address asks for. What is no number there is what is usual. */
export function readWindow(params: URLSearchParams): Window {
  return {
    ...readDays(params),
    least: readNumber(params.get("size") ?? "") ?? USUAL_SIZE,
    unit: params.get("unit") === "shares" ? "shares" : "$",
  };
}

export const readPositions = (params: URLSearchParams): Position[] => {
  const asked = (params.get("stand") ?? "").split(",");
  return POSITIONS.filter((position) => asked.includes(position));
};
