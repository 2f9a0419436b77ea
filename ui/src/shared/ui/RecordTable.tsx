import type { Schemas } from "@/shared/api/client";
import { DASH, number, signed } from "@/shared/format";

/** How often shelves held beside the same distance on the other side of price, and what that says. */
export function RecordTable({ rows }: { rows: Schemas["RecordRow"][] }) {
  const share = (value: number | null) => (value === null ? DASH : `${number(value, 0)} %`);
  return (
    <table>
      <thead>
        <tr>
          <th>Of</th>
          <th title="Share of decided tests in which price turned back">Held</th>
          <th title="The same of prices at the same distance where nothing was printed">Placebo</th>
          <th title="In percentage points, with its 95 % interval">Difference</th>
          <th title="Decided tests of shelves, and of the placebo">Tests</th>
          <th data-kind="text">Says</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.of}>
            <th scope="row">{row.of}</th>
            <td>{share(row.held_pct)}</td>
            <td>{share(row.placebo_pct)}</td>
            <td title={row.low === null ? undefined : `95 %: ${signed(row.low, 1)} to ${signed(row.high, 1)}`}>
              {signed(row.difference, 1)}
            </td>
            <td>
              {number(row.tests)} <small>{number(row.placebo_tests)}</small>
            </td>
            <td data-kind="text" className={row.verdict === "above" || row.verdict === "below" ? "sure" : undefined}>
              {row.sentence}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
