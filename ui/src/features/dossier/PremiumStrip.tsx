import type { Schemas } from "@/shared/api/client";
import { compact, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

type Data = Schemas["TapeView"];
const WIDTH = 600;
const HEIGHT = 64;

/** Premium of the last sessions, calls above the line and puts below it, with the place that the one shown has among them. */
export function PremiumStrip({ data }: { data: Data }) {
  const days = data.history;
  const others = days.length - 1;
  const most = Math.max(1, ...days.flatMap((day) => [day.call ?? 0, day.put ?? 0]));
  const step = WIDTH / days.length;
  const middle = HEIGHT / 2;
  const y = (value: number | null) => ((middle - 2) * (value ?? 0)) / most;
  const words = `above ${number(data.below)} of the ${number(others)} before`;
  return (
    <Figure
      className="premium-strip"
      title={
        <>
          Premium, {days.length} sessions <span className="aside">{words}; calls up, puts down</span>
        </>
      }
      chart={
        <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} preserveAspectRatio="none" role="img" aria-label={`Premium: ${words}`}>
          {days.map((day, i) => (
            <g key={day.session} className={i === others ? "shown" : undefined}>
              <title>{`${date(day.session)}: calls $${compact(day.call)}, puts $${compact(day.put)}`}</title>
              <rect
                className="flow-call"
                x={i * step}
                width={step - 1.5}
                y={middle - y(day.call)}
                height={y(day.call)}
              />
              <rect className="flow-put" x={i * step} width={step - 1.5} y={middle} height={y(day.put)} />
            </g>
          ))}
        </svg>
      }
      table={
        <table>
          <thead>
            <tr>
              <th>Session</th>
              <th>Calls $</th>
              <th>Puts $</th>
              <th>In packages $</th>
            </tr>
          </thead>
          <tbody>
            {days.toReversed().map((day) => (
              <tr key={day.session}>
                <th scope="row">{date(day.session, true)}</th>
                <td>{compact(day.call)}</td>
                <td>{compact(day.put)}</td>
                <td>{compact(day.package)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      }
    />
  );
}
