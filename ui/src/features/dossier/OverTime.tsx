import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { AsOfRequest, Schemas } from "@/shared/api/client";
import { useOverTime } from "@/shared/api/queries";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, monthAxis, type Palette, sessionTooltip, usePalette } from "@/shared/chart/palette";
import { told } from "@/shared/chart/told";
import { DASH, date, metricText, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { MetricField } from "./MetricField";

type Data = Schemas["OverTime"];

/** Any metric or expression of the name over its history, with a reference line. */
export function OverTime({
  symbol,
  at,
  expression,
  reference,
  onChoose,
}: {
  symbol: string;
  at: AsOfRequest;
  expression: string;
  reference: number | null;
  onChoose: (changes: Record<string, string | null>) => void;
}) {
  const palette = usePalette();
  const answer = useOverTime(symbol, { ...at, expression, ...(reference !== null && { reference }) });
  const data = answer.data;
  const option = useMemo(() => data && makeOption(data, palette), [data, palette]);
  const share = data && data.known > 0 ? Math.round((100 * data.above) / data.known) : null;
  const problem = answer.failureReason;
  return (
    <Figure
      title={
        <>
          Over time
          {data && share !== null && (
            <span className="aside">
              <b>{share} %</b> of {number(data.known)} sessions{" "}
              {data.kind === "condition"
                ? "held"
                : `above ${metricText(data.unit, data.decimals, data.reference)} ${data.unit}`}
            </span>
          )}
        </>
      }
      controls={
        <>
          <MetricField
            id="over-metrics"
            label="Metric or expression over time"
            value={expression}
            most={1000}
            onSet={(text) => text && onChoose({ over: text })}
          />
          <label>
            line{" "}
            <input
              className="edge-input"
              aria-label="Reference line"
              inputMode="decimal"
              placeholder="newest"
              maxLength={16}
              key={reference ?? ""}
              defaultValue={reference ?? ""}
              onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
              onBlur={(event) => {
                const value = event.currentTarget.value.trim();
                onChoose({ line: value !== "" && Number.isFinite(Number(value)) ? value : null });
              }}
            />
          </label>
        </>
      }
      chart={
        problem ? (
          <p className="rule-error" role="alert">
            {problem.message}
          </p>
        ) : option && data ? (
          <EChart option={option} label={`${data.label} of ${symbol} over ${data.known} sessions`} />
        ) : null
      }
      table={
        data ? (
          <table>
            <thead>
              <tr>
                <th>session</th>
                <th>
                  {data.label} {data.unit}
                </th>
              </tr>
            </thead>
            <tbody>
              {data.sessions
                .map((session, i) => ({ session, value: data.values[i] ?? null }))
                .reverse()
                .map(({ session, value }) => (
                  <tr key={session}>
                    <td>{date(session, true)}</td>
                    <td>{value === null ? DASH : metricText(data.unit, data.decimals, value)}</td>
                  </tr>
                ))}
            </tbody>
          </table>
        ) : null
      }
    />
  );
}

function makeOption(data: Data, c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const condition = data.kind === "condition";
  return {
    ...base,
    grid: { left: 48, right: 14, top: 10, bottom: 24 },
    tooltip: sessionTooltip<{ dataIndex: number }>(c, (points) => {
      const i = points[0]?.dataIndex ?? 0;
      const value = data.values[i] ?? null;
      const text =
        value === null
          ? "no value"
          : condition
            ? value > 0
              ? "yes"
              : "no"
            : metricText(data.unit, data.decimals, value);
      return told(date(data.sessions[i] ?? "", true), `${text} ${value === null || condition ? "" : data.unit}`);
    }),
    xAxis: monthAxis(data.sessions, c),
    yAxis: {
      type: "value",
      scale: !condition,
      max: condition ? 1 : undefined,
      axisLabel: { color: c.muted, show: !condition },
      splitLine: { lineStyle: { color: c.rule, type: "solid" }, show: !condition },
    },
    series: [
      {
        type: "line",
        data: data.values,
        symbol: "none",
        step: condition ? "middle" : false,
        lineStyle: { color: c.solid, width: 1.6 },
        areaStyle: condition ? { color: c.solid, opacity: 0.4 } : undefined,
        markLine:
          data.reference === null || condition
            ? undefined
            : {
                silent: true,
                symbol: ["none", "none"],
                label: {
                  formatter: metricText(data.unit, data.decimals, data.reference),
                  color: c.accent,
                  position: "insideEndTop",
                },
                lineStyle: { color: c.accent, type: "solid", width: 1.2 },
                data: [{ yAxis: data.reference }],
              },
      },
    ],
  };
}
