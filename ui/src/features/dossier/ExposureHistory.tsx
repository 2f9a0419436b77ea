import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import { chartBase, type Palette, sessionTooltip, twoPanes, usePalette, valueAxis } from "@/shared/chart/palette";
import { told } from "@/shared/chart/told";
import { compact, date, number } from "@/shared/format";
import { Link } from "@/shared/route";
import { Figure } from "@/shared/ui/Figure";

type Data = Schemas["PositioningView"];

const TURNED = `/screen?r=${encodeURIComponent("crossed_above(net_exposure, 0)")}&evidence=1`;

/** Two years of net exposure under the price. */
export function ExposureHistory({ data }: { data: Data }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, palette), [data, palette]);
  const { history } = data;
  return (
    <Figure
      title={
        <>
          Two years{" "}
          <span className="aside">
            <Link to={TURNED}>what follows a turn</Link>
          </span>
        </>
      }
      chart={<EChart option={option} label={`Two years of net gamma exposure of ${data.symbol} under its price`} />}
      table={
        <table>
          <thead>
            <tr>
              <th>Session</th>
              <th>Price $</th>
              <th>Net, $ a %</th>
            </tr>
          </thead>
          <tbody>
            {history.sessions
              .map((session, i) => ({ session, i }))
              .reverse()
              .map(({ session, i }) => (
                <tr key={session}>
                  <th scope="row">{date(session, true)}</th>
                  <td>{number(history.close[i], 2)}</td>
                  <td>{compact(history.net[i])}</td>
                </tr>
              ))}
          </tbody>
        </table>
      }
    />
  );
}

function makeOption(data: Data, c: Palette): EChartsCoreOption {
  const { history: h } = data;
  const base = chartBase(c);
  return {
    ...base,
    ...twoPanes(h.sessions, c),
    grid: [
      { left: 46, right: 10, top: 8, height: "38%" },
      { left: 46, right: 10, bottom: 22, height: "36%" },
    ],
    tooltip: sessionTooltip<{ dataIndex: number }>(c, (points) => {
      const i = points[0]?.dataIndex ?? 0;
      return told(date(h.sessions[i] ?? "", true), `price ${number(h.close[i], 2)}`, `net ${compact(h.net[i])} $ a %`);
    }),
    yAxis: [
      valueAxis(c, { scale: true, splitNumber: 2 }),
      valueAxis(c, {
        gridIndex: 1,
        splitNumber: 2,
        axisLabel: { color: c.muted, formatter: (value: number) => compact(value) },
      }),
    ],
    series: [
      { type: "line", data: h.close, symbol: "none", lineStyle: { color: c.solid, width: 1.6 } },
      {
        type: "line",
        xAxisIndex: 1,
        yAxisIndex: 1,
        data: h.net,
        symbol: "none",
        lineStyle: { color: c.ink, width: 1 },
        areaStyle: { color: c.solid, opacity: 0.3, origin: "auto" },
      },
    ],
  };
}
