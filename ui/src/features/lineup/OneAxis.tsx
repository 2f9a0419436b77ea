import { type KeyboardEvent, useRef } from "react";
import { asOfDay, useAsOf } from "@/shared/address";
import type { Schemas } from "@/shared/api/client";
import { useTray } from "@/shared/api/queries";
import { metricText, number, signed } from "@/shared/format";
import { useNavigate } from "@/shared/route";
import { soon } from "@/shared/settled";
import { Missing } from "@/shared/ui/Missing";
import type { Row } from "./lines";

const WIDTH = 460;

/** One row a name on a shared axis: the baseline as a bar, the value as a bracket that reaches from it. */
export function OneAxis({
  data,
  rows,
  focused,
  onFocus,
}: {
  data: Schemas["Lineup"];
  rows: Row[];
  focused: string | null;
  onFocus: (row: Row) => void;
}) {
  const navigate = useNavigate();
  const asOf = useAsOf();
  const body = useRef<HTMLTableSectionElement>(null);
  const tray = useTray().data;
  const kept = new Set(tray?.items.map((item) => item.symbol));
  const known = rows.flatMap((row) => [row.value, row.baseline]).filter((v): v is number => v !== null);
  const high = robustTop(known);
  const least = known.length ? Math.min(...known) : 0;
  const low = least - 0.06 * (high - least);
  const x = (value: number) => 6 + ((WIDTH - 14) * (Math.min(Math.max(value, low), high) - low)) / (high - low || 1);
  const ticks = niceTicks(low, high);
  const { unit, decimals } = data.metric;
  const text = (value: number | null) => metricText(unit, decimals, value);
  const walk = (event: KeyboardEvent<HTMLTableRowElement>, row: Row) => {
    const list = body.current?.rows;
    if (event.key === "Enter") {
      // One step after the other: a second navigation at once would drop the first.
      soon(() => navigate(asOfDay(`/dossier/${row.symbol}`, asOf)));
      return;
    }
    const by = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15, Home: -9999, End: 9999 }[event.key];
    if (!by || !list) return;
    event.preventDefault();
    const place = [...list].indexOf(event.currentTarget);
    list[Math.max(0, Math.min(list.length - 1, place + by))]?.focus();
  };
  const first = rows.some((row) => row.symbol === focused) ? focused : rows[0]?.symbol;
  return (
    <div className="lineup-body">
      <dl className="callouts">
        {data.callouts.map((callout) => (
          <div key={callout.kind}>
            <dt>{callout.kind}</dt>
            <dd>
              <button type="button" onClick={() => focusOn(body.current, callout.symbol)}>
                {callout.symbol}
              </button>{" "}
              {callout.words}
            </dd>
          </div>
        ))}
      </dl>
      <div className="lineup-table">
        <table>
          <thead>
            <tr>
              <th>Name</th>
              <th title={data.metric.label}>Value</th>
              <th title={data.baseline.label}>Baseline</th>
              <th>Change</th>
              <th>Ratio</th>
              <th title="Of the value within its own 252 sessions">Pctl</th>
              <th className="axis">
                <svg width={WIDTH} height={20} aria-hidden="true">
                  {ticks.map((tick) => (
                    <text key={tick} x={x(tick)} y={14} textAnchor="middle">
                      {number(tick)}
                    </text>
                  ))}
                </svg>
                <span className="unit">{unit}</span>
              </th>
            </tr>
          </thead>
          <tbody ref={body}>
            {rows.map((row) => (
              <tr
                key={row.symbol}
                data-symbol={row.symbol}
                tabIndex={row.symbol === first ? 0 : -1}
                aria-selected={row.symbol === focused}
                onFocus={() => onFocus(row)}
                onKeyDown={(event) => walk(event, row)}
                onDoubleClick={() => navigate(asOfDay(`/dossier/${row.symbol}`, asOf))}
              >
                <th scope="row" title={row.company} className={kept.has(row.symbol) ? "kept" : undefined}>
                  {row.symbol} <span className="muted">{row.company}</span>
                </th>
                <td>{row.value === null ? <Missing why={row.reason} /> : text(row.value)}</td>
                <td>{row.baseline === null ? <Missing why={row.reason} /> : text(row.baseline)}</td>
                <td>{signed(row.change, decimals)}</td>
                <td>{number(row.ratio, 2)}</td>
                <td>{number(row.percentile)}</td>
                <td className="axis">
                  <Reach row={row} x={x} ticks={ticks} over={high} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}

function focusOn(body: HTMLTableSectionElement | null, symbol: string) {
  body?.querySelector<HTMLElement>(`[data-symbol="${symbol}"]`)?.focus();
}

/** The end of the axis: one wild name does not squeeze the others, it is drawn at the end with an arrow. */
function robustTop(values: number[]): number {
  if (!values.length) return 1;
  const sorted = values.toSorted((a, b) => a - b);
  const most = sorted.at(-1) ?? 1;
  const usual = sorted[Math.floor(0.97 * (sorted.length - 1))] ?? most;
  return most > 1.5 * usual ? 1.15 * usual : 1.03 * most;
}

function niceTicks(low: number, high: number): number[] {
  const rough = (high - low) / 5 || 1;
  const size = 10 ** Math.floor(Math.log10(rough));
  const step = ([1, 2, 2.5, 5, 10].find((n) => n * size >= rough) ?? 10) * size;
  const out = [];
  for (let tick = Math.ceil(low / step) * step; tick <= high; tick += step) out.push(tick);
  return out;
}

function Reach({ row, x, ticks, over }: { row: Row; x: (v: number) => number; ticks: number[]; over: number }) {
  const { value, baseline } = row;
  const label = `baseline ${number(baseline, 1)}, value ${number(value, 1)}`;
  const lip = value !== null && baseline !== null && value < baseline ? 5 : -5;
  return (
    <svg className="reach" width={WIDTH} height={20} role="img" aria-label={label}>
      {ticks.map((tick) => (
        <path key={tick} className="grid" d={`M${x(tick)} 0v20`} />
      ))}
      {value !== null && baseline !== null && Math.abs(x(value) - x(baseline)) > 0.5 && (
        <path className="priced" d={`M${x(baseline)} 5H${x(value)}v10H${x(baseline)}`} />
      )}
      {value !== null && <path className="priced end" d={`M${x(value) + lip} 3H${x(value)}v14h${lip}`} />}
      {baseline !== null && <path className="did" d={`M${x(baseline) - 1.5} 2h3v16h-3z`} />}
      {((value ?? 0) > over || (baseline ?? 0) > over) && <path className="did" d={`M${WIDTH - 7} 6l6 4-6 4z`} />}
    </svg>
  );
}
