import type { ReactNode } from "react";
import { compact } from "@/shared/format";
import { type Flow, SIDES } from "./flowBars";

export type FlowRow = { flow: Flow; head: ReactNode; last: string; chosen?: boolean };

/** Premium by quarter of an hour in numbers: when, calls and puts by side, and one more column. */
export function FlowTable({ rows, last }: { rows: FlowRow[]; last: string }) {
  return (
    <table>
      <thead>
        <tr>
          <th>From</th>
          <th>Calls, ask $</th>
          <th>mid $</th>
          <th>bid $</th>
          <th>Puts, ask $</th>
          <th>mid $</th>
          <th>bid $</th>
          <th>{last}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ flow, head, last: value, chosen }) => (
          <tr key={flow.at} className={chosen ? "chosen" : undefined}>
            <th scope="row">{head}</th>
            {(["call", "put"] as const).flatMap((right) =>
              SIDES.map((side) => <td key={right + side}>{compact(flow[right][side])}</td>),
            )}
            <td>{value}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** One right's premium by side, in words. */
export const sidesOf = (one: Flow["call"]) => SIDES.map((side) => `$${compact(one[side])} ${side}`).join(", ");
