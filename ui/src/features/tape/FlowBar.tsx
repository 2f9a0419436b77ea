import { compact } from "@/shared/format";

type Sided = { ask: number; mid: number; bid: number };
const SIDES = ["ask", "mid", "bid"] as const;
const HEIGHT = { ask: 12, mid: 7, bid: 3 };
const WIDTH = 96;

/** How premium is split: puts to the left of the middle, calls to the right, and from the middle outwards ask, mid and bid, each lower. */
export function FlowBar({ call, put }: { call: Sided; put: Sided }) {
  const total = SIDES.reduce((sum, side) => sum + call[side] + put[side], 0) || 1;
  const middle = WIDTH / 2;
  const label = `calls $${compact(call.ask)} ask, $${compact(call.mid)} mid, $${compact(call.bid)} bid; puts $${compact(put.ask)} ask, $${compact(put.mid)} mid, $${compact(put.bid)} bid`;
  const parts = (["put", "call"] as const).flatMap((right) => {
    let from = 0;
    return SIDES.map((side) => {
      const width = ((middle - 1) * (right === "call" ? call : put)[side]) / total;
      const x = right === "call" ? middle + from : middle - from - width;
      from += width;
      return (
        <rect
          key={`${right} ${side}`}
          className={`flow-${right} ${side}`}
          x={x}
          y={9 - HEIGHT[side] / 2}
          width={width}
          height={HEIGHT[side]}
        />
      );
    });
  });
  return (
    <svg className="flow-bar" width={WIDTH} height={18} role="img" aria-label={label}>
      <title>{label}</title>
      {parts}
      <path className="axis" d={`M${middle} 1v16`} />
    </svg>
  );
}
