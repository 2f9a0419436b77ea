import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { bottomAxis, chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { hollowLine, whiskers } from "@/shared/chart/series";
import { told, toldOn } from "@/shared/chart/told";
import { date, number, signed } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { Empty } from "@/shared/ui/States";
import type { Write } from "./part";

type Data = Schemas["VolatilityView"];
type Smile = Schemas["Smile"];

/** The smile of an expiration: quotes as whiskers and the fit through them; all overlaid, or side by side. */
export function SmileFigure({ data, params, onWrite }: { data: Data; params: URLSearchParams; onWrite: Write }) {
  const palette = usePalette();
  // Of a past session whose chain was not kept there is the fitted curve alone.
  const smiles = data.smiles.filter((smile) => smile.quotes.length > 0 || smile.vols.some((vol) => vol !== null));
  const asked = params.get("smile") ?? "";
  const usual = smiles.find((s) => data.expiries.find((row) => row.expiration === s.expiration)?.monthly) ?? smiles[0];
  const mode = asked === "all" || asked === "grid" ? asked : "one";
  const smile = smiles.find((s) => s.expiration === asked) ?? usual;
  const option = useMemo(
    () => (mode === "all" ? allOption(smiles, palette) : smile ? oneOption(smile, palette) : null),
    [mode, smiles, smile, palette],
  );
  return (
    <Figure
      title={
        <>
          Smile{" "}
          <span className="aside">
            {mode === "one" && smile
              ? `fit ${number(smile.quality)}${smile.flaw ? `: ${smile.flaw}` : ""} · implied yield ${number(smile.carry, 1)} %, dividends ${number(data.dividend_yield, 1)} %`
              : mode === "all"
                ? "fitted volatility by standard deviations from the forward"
                : "fitted volatility by strike"}
          </span>
        </>
      }
      controls={
        <select
          aria-label="Expiration of the smile"
          value={mode === "one" ? (smile?.expiration ?? "") : mode}
          onChange={(event) => onWrite({ smile: event.target.value })}
        >
          {smiles.map((s) => (
            <option key={s.expiration} value={s.expiration}>
              {date(s.expiration, true)}
            </option>
          ))}
          <option value="all">all, overlaid</option>
          <option value="grid">all, side by side</option>
        </select>
      }
      chart={
        mode === "grid" ? (
          <div className="smile-grid">
            {smiles.map((s) => (
              <button key={s.expiration} type="button" onClick={() => onWrite({ smile: s.expiration })}>
                <SmileMini smile={s} />
              </button>
            ))}
          </div>
        ) : option ? (
          <EChart
            option={option}
            label="Implied volatility by strike: quotes as whiskers, the fitted curve through them"
          />
        ) : (
          <Empty>
            <p>Nothing is quoted in this session.</p>
          </Empty>
        )
      }
      table={smile ? <SmileTable smile={smile} /> : null}
    />
  );
}

function SmileTable({ smile }: { smile: Smile }) {
  return (
    <table>
      <thead>
        <tr>
          <th>Strike $</th>
          <th>Side</th>
          <th>Bid %</th>
          <th>Ask %</th>
          <th>Took part</th>
        </tr>
      </thead>
      <tbody>
        {smile.quotes.map((q) => (
          <tr key={q.strike}>
            <td>{number(q.strike, 2)}</td>
            <td>{q.is_call ? "call" : "put"}</td>
            <td>{number(q.bid, 1)}</td>
            <td>{number(q.ask, 1)}</td>
            <td>{q.used ? "yes" : "no"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const quoted = (smile: Smile) => smile.quotes.filter((q) => q.bid !== null && q.ask !== null);

/** A level above which nobody needs to see: far wings would flatten all the rest. */
const ceiling = (smile: Smile) => {
  const middle = smile.vols.filter((v): v is number => v !== null);
  return middle.length ? 1.08 * Math.max(...middle) : undefined;
};

function oneOption(smile: Smile, c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const rows = quoted(smile);
  const lines = smile.marks.flatMap((x, i) => {
    const z = i - 1;
    return x === null
      ? []
      : [
          {
            xAxis: x,
            // Away from each other: of an expiration that is near they stand close.
            label:
              z === 0
                ? { formatter: "forward" }
                : { formatter: z < 0 ? "−1 σ " : " +1 σ", align: z < 0 ? "right" : "left" },
          },
        ];
  });
  return {
    ...base,
    grid: { left: 38, right: 18, top: 18, bottom: 36 },
    tooltip: {
      trigger: "item",
      ...base.tooltip,
      formatter: ({ dataIndex }: { dataIndex: number }) => {
        const q = rows[dataIndex];
        return q
          ? told(
              `${number(q.strike, 2)} ${q.is_call ? "call" : "put"}`,
              `bid ${number(q.bid, 1)} %, ask ${number(q.ask, 1)} %`,
              !q.used && "too wide to take part",
            )
          : "";
      },
    },
    xAxis: bottomAxis(c, "strike $", { scale: true }),
    yAxis: {
      type: "value",
      scale: true,
      max: ceiling(smile) && 5 * Math.ceil((ceiling(smile) ?? 0) / 5),
      // The edge is where the quotes end, and its label would stand on the one below.
      axisLabel: { color: c.muted, showMaxLabel: false },
      splitLine: { lineStyle: { color: c.rule, type: "solid" } },
    },
    series: [
      {
        ...whiskers(
          rows.map((q) => [q.strike, q.bid, q.ask, q.used ? 1 : 0]),
          c,
        ),
        clip: true,
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          label: { color: c.muted, fontSize: 11, distance: 2 },
          lineStyle: { color: c.muted, type: [2, 4], width: 1 },
          data: lines,
        },
      },
      ...hollowLine(
        smile.strikes.map((k, i): [number, number | null] => [k, smile.vols[i] ?? null]),
        c,
        1,
      ),
    ],
  };
}

function allOption(smiles: Smile[], c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const shown = smiles.filter((s) => s.deviations.some((z) => z !== null));
  return {
    ...base,
    grid: { left: 38, right: 70, top: 12, bottom: 36 },
    tooltip: {
      trigger: "item",
      ...base.tooltip,
      formatter: ({ seriesIndex, data }: { seriesIndex: number; data: [number, number] }) => {
        const s = shown[seriesIndex];
        return s
          ? toldOn(date(s.expiration, true), `, ${s.days} days`, `${signed(data[0], 1)} σ: ${number(data[1], 1)} %`)
          : "";
      },
    },
    xAxis: bottomAxis(c, "standard deviations from the forward", { min: -3, max: 3 }),
    yAxis: valueAxis(c, { scale: true }),
    series: shown.map((s, i) => ({
      type: "line",
      data: s.deviations.flatMap((z, j): [number, number | null][] =>
        z !== null && Math.abs(z) <= 3 ? [[z, s.vols[j] ?? null]] : [],
      ),
      symbol: "circle",
      symbolSize: 3,
      showSymbol: true,
      itemStyle: { color: c.ink, opacity: 0.35 + (0.65 * (shown.length - i)) / shown.length },
      lineStyle: { color: c.ink, width: 1.2, opacity: 0.35 + (0.65 * (shown.length - i)) / shown.length },
      endLabel: { show: true, formatter: date(s.expiration), color: c.muted, fontSize: 11 },
      labelLayout: { moveOverlap: "shiftY" },
    })),
  };
}

function SmileMini({ smile }: { smile: Smile }) {
  const width = 132;
  const height = 84;
  const rows = quoted(smile);
  const top = ceiling(smile) ?? 1;
  const all = [...rows.map((q) => q.bid ?? 0), ...smile.vols.map((v) => v ?? top)].filter((v) => v > 0);
  const low = Math.min(...all, top) * 0.95;
  const first = smile.strikes[0] ?? 0;
  const span = (smile.strikes.at(-1) ?? 1) - first || 1;
  const x = (k: number) => 3 + ((width - 6) * (k - first)) / span;
  const y = (v: number) => height - 18 - ((height - 24) * (Math.min(v, top) - low)) / (top - low);
  const curve = smile.strikes
    .flatMap((k, i) => {
      const v = smile.vols[i];
      return v === null || v === undefined ? [] : [`${x(k).toFixed(1)},${y(v).toFixed(1)}`];
    })
    .join(" ");
  return (
    <svg
      width={width}
      height={height}
      role="img"
      aria-label={`${date(smile.expiration, true)}, fit ${number(smile.quality)}`}
    >
      {rows.map((q) => (
        <line
          key={q.strike}
          className={q.used ? "whisker" : "whisker unused"}
          x1={x(q.strike)}
          x2={x(q.strike)}
          y1={y(q.bid ?? 0)}
          y2={y(q.ask ?? 0)}
        />
      ))}
      <polyline className="curve" points={curve} />
      <text x={3} y={height - 4}>
        {date(smile.expiration)} · fit {number(smile.quality)}
      </text>
    </svg>
  );
}
