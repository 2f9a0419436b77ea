import type { EChartsCoreOption } from "echarts/core";
import { useMemo } from "react";
import type { Schemas } from "@/shared/api/client";
import { EChart } from "@/shared/chart/EChart";
import type { OwnLineAt } from "@/shared/chart/lineMarks";
import { bottomAxis, chartBase, type Palette, usePalette, valueAxis } from "@/shared/chart/palette";
import { toldOn } from "@/shared/chart/told";
import { compact, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";
import { Empty } from "@/shared/ui/States";

type Data = Schemas["PositioningView"];

/** Net exposure at other prices, every gamma worked out anew at each. */
export function ExposureProfile({ data, lines }: { data: Data; lines: OwnLineAt[] }) {
  const palette = usePalette();
  const option = useMemo(() => makeOption(data, lines, palette), [data, lines, palette]);
  const { profile } = data;
  return (
    <Figure
      title={
        <>
          Profile{" "}
          <span className="aside">
            {profile.flip === null ? (
              profile.reason
            ) : (
              <>
                net exposure at other prices, flip at <b>{number(profile.flip, 2)}</b>
              </>
            )}
          </span>
        </>
      }
      chart={
        profile.net.length > 0 ? (
          <EChart
            option={option}
            label={`Net gamma exposure of ${data.symbol} at prices from 20 % below to 20 % above`}
          />
        ) : (
          <Empty>
            <p>No profile: {profile.reason}.</p>
          </Empty>
        )
      }
      table={
        <table>
          <thead>
            <tr>
              <th>Price $</th>
              <th>From here %</th>
              <th>Net, $ a %</th>
            </tr>
          </thead>
          <tbody>
            {profile.spots.map((spot, i) => (
              <tr key={spot}>
                <th scope="row">{number(spot, 2)}</th>
                <td>{number(100 * (spot / data.spot - 1), 1)}</td>
                <td>{compact(profile.net[i])}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}

function makeOption(data: Data, lines: OwnLineAt[], c: Palette): EChartsCoreOption {
  const base = chartBase(c);
  const { profile } = data;
  const line = (value: number | null, text: string, color: string, type: string | number[]) =>
    value === null ? [] : [{ xAxis: value, label: { formatter: text, color }, lineStyle: { color, type } }];
  return {
    ...base,
    grid: { left: 50, right: 14, top: 20, bottom: 22 },
    tooltip: {
      trigger: "axis",
      ...base.tooltip,
      axisPointer: { lineStyle: { color: c.muted, type: "solid" } },
      formatter: (points: { value: [number, number] }[]) => {
        const [spot, net] = points[0]?.value ?? [0, 0];
        return toldOn(number(spot, 2), `, ${number(100 * (spot / data.spot - 1), 1)} %`, `${compact(net)} $ a %`);
      },
    },
    xAxis: bottomAxis(c, "", {
      min: profile.spots[0],
      max: profile.spots.at(-1),
      axisLabel: { color: c.muted, showMinLabel: false, showMaxLabel: false },
    }),
    yAxis: valueAxis(c, {
      splitNumber: 3,
      axisLabel: { color: c.muted, formatter: (value: number) => compact(value) },
    }),
    series: [
      {
        type: "line",
        data: profile.spots.map((spot, i) => [spot, profile.net[i] ?? null]),
        symbol: "none",
        z: 3,
        lineStyle: { color: c.ink, width: 1.8 },
        areaStyle: { color: c.solid, opacity: 0.18, origin: "auto" },
        markLine: {
          silent: true,
          symbol: ["none", "none"],
          label: { fontSize: 11, distance: 3 },
          data: [
            { yAxis: 0, label: { show: false }, lineStyle: { color: c.ink, type: "solid", width: 1 } },
            ...line(data.spot, "price", c.accent, "solid"),
            ...line(profile.flip, "flip", c.ink, [5, 3]),
            ...lines
              .filter(({ price }) => price >= (profile.spots[0] ?? 0) && price <= (profile.spots.at(-1) ?? 0))
              .flatMap((own) => line(own.price, own.name || number(own.price, 2), c.accent, [1.5, 2])),
          ],
        },
      },
    ],
  };
}
