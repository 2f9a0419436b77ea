import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import type { OwnLineAt } from "@/shared/chart/lineMarks";
import { chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { fans } from "@/shared/chart/series";
import { ticketMarks } from "@/shared/chart/ticketMarks";
import { told } from "@/shared/chart/told";
import { compact, date, number, signedCompact } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { Empty } from "@/shared/ui/States";
import { AGAINST } from "./against";
import type { Write } from "./part";

type Data = Schemas["PositioningView"];
type Strike = Schemas["StrikePart"];
type Shown = "exposure" | "interest";

const MARKED = 6;

/** Exposure or open interest by strike, beside the price and its expected move on the same axis. */
export function StrikeFigure({
  data,
  tickets,
  lines,
  against,
  params,
  onWrite,
}: {
  data: Data;
  lines: OwnLineAt[];
  /** The session's option trades, largest first. */
  tickets: Schemas["TicketRow"][];
  against: string;
  params: URLSearchParams;
  onWrite: Write;
}) {
  const palette = usePalette();
  const shown: Shown = params.get("strikes") === "interest" ? "interest" : "exposure";
  const view = useMemo(() => inView(data, shown), [data, shown]);
  const option = useMemo(
    () => makeOption(data, shown, view, tickets, lines, palette),
    [data, shown, view, tickets, lines, palette],
  );
  const chosen = data.expiries.filter((expiry) => expiry.chosen);
  const of =
    chosen.length === data.expiries.length
      ? ""
      : chosen.length === 1
        ? date(chosen[0]?.expiration ?? "")
        : `${chosen.length} dates`;
  const words = AGAINST.find(([key]) => key === against)?.[1];
  return (
    <Figure
      className="strikes"
      title={
        <>
          By strike{" "}
          <span className="aside">
            <b className="calls">calls</b> <b className="puts">puts</b> {of}
          </span>
        </>
      }
      controls={
        <>
          <select
            aria-label="Shown by strike"
            value={shown}
            onChange={(event) => onWrite({ strikes: event.target.value === "interest" ? "interest" : null })}
          >
            <option value="exposure">exposure</option>
            <option value="interest">interest</option>
          </select>
          <label>
            hollow:{" "}
            <select
              aria-label="Compared with"
              value={against}
              onChange={(event) => onWrite({ against: event.target.value })}
            >
              {AGAINST.map(([key, text]) => (
                <option key={key} value={key}>
                  {text}
                </option>
              ))}
            </select>
          </label>
          <label>
            move to{" "}
            <select
              aria-label="Expected move to"
              value={data.fan?.end ?? ""}
              onChange={(event) => onWrite({ fan: event.target.value })}
            >
              {data.fan === null && <option value="">none</option>}
              {data.expiries.map((expiry) => (
                <option key={expiry.expiration} value={expiry.expiration}>
                  {date(expiry.expiration, expiry.days > 300)}
                </option>
              ))}
            </select>
          </label>
        </>
      }
      chart={
        shown === "exposure" && data.reason ? (
          <Empty>
            <p>No exposure: {data.reason}. Open interest is known all the same.</p>
          </Empty>
        ) : (
          <EChart
            option={option}
            label={`${shown === "exposure" ? "Gamma exposure" : "Open interest"} of ${data.symbol} by strike, beside its price and expected move`}
          />
        )
      }
      table={<StrikeTable data={data} shown={shown} words={words ?? ""} />}
    />
  );
}

const parts = (strike: Strike, shown: Shown) =>
  shown === "exposure"
    ? {
        call: strike.call_exposure,
        put: strike.put_exposure,
        callBefore: strike.call_exposure_before,
        putBefore: strike.put_exposure_before,
      }
    : {
        call: strike.call_interest,
        put: -strike.put_interest,
        callBefore: strike.call_interest_before,
        putBefore: -strike.put_interest_before,
      };

/** Strikes around the price that hold anything to speak of, and the range of prices that shows them. */
function inView(data: Data, shown: Shown) {
  const half = data.fan?.half_width ?? 0.08 * data.spot;
  const size = (strike: Strike) =>
    Math.max(...Object.values(parts(strike, shown)).map((value) => Math.abs(value ?? 0)));
  const near = data.strikes.filter((strike) => Math.abs(strike.strike / data.spot - 1) < 0.3);
  const most = Math.max(...near.map(size), 0);
  const kept = near.filter((strike) => size(strike) >= 0.15 * most || Math.abs(strike.strike - data.spot) < half);
  const recent = data.recent.close.filter((close): close is number => close !== null);
  const reach = Math.min(1.3 * half, 0.25 * data.spot);
  const prices = [...kept.map((strike) => strike.strike), data.spot - reach, data.spot + reach, ...recent];
  const low = Math.min(...prices);
  const high = Math.max(...prices);
  const strikes = near.filter((strike) => strike.strike >= low && strike.strike <= high);
  const gaps = strikes.slice(1).map((strike, i) => strike.strike - (strikes[i]?.strike ?? 0));
  const gap = Math.min(...gaps, high - low);
  const margin = Math.max(0.03 * (high - low), 0.6 * gap);
  return { strikes, low: low - margin, high: high + margin, gap };
}

function makeOption(
  data: Data,
  shown: Shown,
  view: ReturnType<typeof inView>,
  tickets: Schemas["TicketRow"][],
  lines: OwnLineAt[],
  c: Palette,
): EChartsCoreOption {
  const base = chartBase(c);
  const fan = data.fan;
  const days = [...new Set([...data.recent.sessions, ...(fan?.sessions ?? [])])].sort();
  const place = new Map(data.recent.sessions.map((day, i) => [day, i]));
  const price = {
    type: "value",
    min: view.low,
    max: view.high,
    axisLine: { show: false },
    axisTick: { show: false },
  };
  const level = (value: number | null, text: string, color: string, type: string | number[]) =>
    value === null || value < view.low || value > view.high
      ? []
      : [{ yAxis: value, label: { formatter: text, color }, lineStyle: { color, type, width: 1.2 } }];
  return {
    ...base,
    grid: [
      { left: 46, width: "30%", top: 8, bottom: 24 },
      { left: "40%", right: 70, top: 8, bottom: 24 },
    ],
    tooltip: {
      trigger: "item",
      ...base.tooltip,
      formatter: ({ seriesType, dataIndex }: { seriesType: string; dataIndex: number }) => {
        const strike = seriesType === "custom" ? view.strikes[dataIndex] : undefined;
        if (!strike) return "";
        const p = parts(strike, shown);
        const put = (value: number | null) => (shown === "interest" && value !== null ? -value : value);
        const line = (words: string, now: number | null, was: number | null) =>
          `${words} ${compact(now)}${now !== null && was !== null ? `, ${signedCompact(now - was)}` : ""}`;
        return told(
          number(strike.strike, 2),
          line("calls", p.call, p.callBefore),
          line("puts", put(p.put), put(p.putBefore)),
        );
      },
    },
    xAxis: [
      {
        type: "category",
        data: days,
        boundaryGap: false,
        axisLine: { lineStyle: { color: c.rule } },
        axisTick: { show: false },
        axisLabel: {
          color: c.muted,
          hideOverlap: true,
          formatter: (day: string) => date(day),
          interval: (i: number) => i % 14 === 0 || days[i] === fan?.end,
        },
      },
      {
        ...valueAxis(c),
        gridIndex: 1,
        splitNumber: 4,
        axisLine: { lineStyle: { color: c.rule } },
        axisTick: { show: false },
        axisLabel: {
          color: c.muted,
          hideOverlap: true,
          showMinLabel: false,
          formatter: (value: number) => compact(shown === "interest" ? Math.abs(value) : value),
        },
      },
    ],
    yAxis: [
      { ...valueAxis(c), ...price, axisLabel: { color: c.muted, showMinLabel: false, showMaxLabel: false } },
      { ...valueAxis(c), ...price, gridIndex: 1, axisLabel: { show: false } },
    ],
    series: [
      {
        type: "line",
        data: days.map((day) => {
          const i = place.get(day);
          return i === undefined ? null : (data.recent.close[i] ?? null);
        }),
        symbol: "none",
        silent: true,
        z: 3,
        lineStyle: { color: c.solid, width: 2 },
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          label: { show: false },
          data: [
            ...level(data.spot, "", c.accent, "solid"),
            ...level(data.profile.flip, "", c.ink, [5, 3]),
            ...lines.flatMap((own) => level(own.price, "", c.accent, [1.5, 2])),
          ],
        },
      },
      fan
        ? fans(
            [
              {
                points: fan.sessions.map((day, i): [string, number, number] => [
                  day,
                  fan.lower[i] ?? fan.anchor,
                  fan.upper[i] ?? fan.anchor,
                ]),
                faint: false,
              },
            ],
            c,
          )
        : { type: "line", data: [] },
      { ...ticketMarks(tickets, c, (ticket) => ticket.at.slice(0, 10), MARKED, 10), silent: true },
      {
        ...bars(view, shown, c),
        xAxisIndex: 1,
        yAxisIndex: 1,
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          label: { fontSize: 11, distance: 3, position: "end" },
          data: [
            ...level(data.spot, `price ${number(data.spot, 2)}`, c.accent, "solid"),
            ...level(data.profile.flip, `flip ${number(data.profile.flip, 2)}`, c.ink, [5, 3]),
            ...lines.flatMap((own) => level(own.price, own.name || number(own.price, 2), c.accent, [1.5, 2])),
          ],
        },
      },
    ],
  };
}

type Api = { value: (dim: number) => number; coord: (point: [number, number]) => [number, number] };

/** A strike a row: solid what is there now, hollow what was there before. */
function bars(view: ReturnType<typeof inView>, shown: Shown, c: Palette) {
  const data = view.strikes.map((strike, i) => {
    const p = parts(strike, shown);
    const all = Object.values(p).map((value) => value ?? 0);
    return [Math.min(0, ...all), Math.max(0, ...all), strike.strike, i];
  });
  return {
    type: "custom",
    data,
    z: 3,
    clip: true,
    encode: { x: [0, 1], y: 2 },
    renderItem: (_: unknown, api: Api) => {
      const strike = view.strikes[api.value(3)];
      if (!strike) return null;
      const p = parts(strike, shown);
      const row = Math.abs((api.coord([0, view.low + view.gap])[1] ?? 0) - (api.coord([0, view.low])[1] ?? 0));
      // Calls and puts on two sides of zero share the row; on one side each has half of it.
      const apart = (p.call ?? 0) * (p.put ?? 0) <= 0;
      const thick = apart ? Math.max(2, Math.min(12, 0.8 * row)) : Math.max(1.5, Math.min(8, 0.42 * row));
      const middle = api.coord([0, strike.strike])[1];
      const bar = (value: number | null, at: number, style: object) => {
        if (value === null || value === 0) return [];
        const from = api.coord([0, strike.strike])[0];
        const to = api.coord([value, strike.strike])[0];
        if (Math.abs(to - from) < 0.7) return [];
        const shape = { x: Math.min(from, to), y: at, width: Math.abs(to - from), height: thick };
        return [{ type: "rect", shape, style }];
      };
      const top = apart ? middle - thick / 2 : middle - thick - 0.5;
      const bottom = apart ? top : middle + 0.5;
      const hollow = { fill: "none", stroke: c.ink, lineWidth: thick < 4 ? 0.6 : 1 };
      return {
        type: "group",
        children: [
          ...bar(p.call, top, { fill: c.call, opacity: 0.85 }),
          ...bar(p.put, bottom, { fill: c.put, opacity: 0.85 }),
          ...bar(p.callBefore, top, hollow),
          ...bar(p.putBefore, bottom, hollow),
        ],
      };
    },
  };
}

function StrikeTable({ data, shown, words }: { data: Data; shown: Shown; words: string }) {
  const unit = shown === "exposure" ? "$ a %" : "contracts";
  return (
    <table>
      <thead>
        <tr>
          <th>Strike $</th>
          <th>Calls, {unit}</th>
          <th>Calls, {words}</th>
          <th>Puts, {unit}</th>
          <th>Puts, {words}</th>
        </tr>
      </thead>
      <tbody>
        {data.strikes.map((strike) => {
          const p = parts(strike, shown);
          const size = (value: number | null) => (shown === "interest" && value !== null ? Math.abs(value) : value);
          return (
            <tr key={strike.strike}>
              <th scope="row">{number(strike.strike, 2)}</th>
              <td>{compact(p.call)}</td>
              <td>{compact(p.callBefore)}</td>
              <td>{compact(size(p.put))}</td>
              <td>{compact(size(p.putBefore))}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
