import type { Schemas } from "@/shared/api/client";
import { count, date, number } from "@/shared/format";
import { Figure } from "@/shared/ui/Figure";

const WIDTH = 640;
const HEIGHT = 64;

/** How often it would have tripped, session by session. */
export function BeforeFigure({ before }: { before: Schemas["Before"] }) {
  if (before.reason !== null) return <p className="muted">{before.reason}</p>;
  const { trips, sessions } = before;
  const most = Math.max(1, ...trips);
  const step = WIDTH / Math.max(1, trips.length);
  const words = `${count(before.total, "name")} in ${count(sessions.length, "session")} would have tripped, ${number(before.a_session, 1)} a session; none in ${number(before.none)}`;
  return (
    <Figure
      title="Before it is armed"
      className="before"
      chart={
        <>
          <p>
            Looked at once a session, at its close: <b>{count(before.total, "trip")}</b> in{" "}
            {count(sessions.length, "session")}, {number(before.a_session, 1)} a session; none in {number(before.none)}{" "}
            of them.
            {before.total === 0 && " It would never have told anything."}
            {(before.a_session ?? 0) > 10 && " That is more than anybody reads."}
          </p>
          <svg viewBox={`0 0 ${WIDTH} ${HEIGHT + 14}`} role="img" aria-label={words}>
            <title>{words}</title>
            {trips.map((many, place) =>
              many > 0 ? (
                <rect
                  key={sessions[place]}
                  className="before-bar"
                  x={place * step}
                  y={HEIGHT - (HEIGHT * many) / most}
                  width={Math.max(1, step - 0.5)}
                  height={(HEIGHT * many) / most}
                >
                  <title>{`${date(sessions[place] ?? "", true)}: ${count(many, "name")}`}</title>
                </rect>
              ) : null,
            )}
            <path className="axis" d={`M0 ${HEIGHT + 0.5}h${WIDTH}`} />
            <text x={0} y={HEIGHT + 12}>
              {date(sessions[0] ?? "", true)}
            </text>
            <text x={WIDTH} y={HEIGHT + 12} textAnchor="end">
              {date(sessions.at(-1) ?? "", true)}
            </text>
            <text x={WIDTH} y={10} textAnchor="end">
              at most {number(most)}
            </text>
          </svg>
          {before.most.length > 0 && (
            <p className="muted">
              Most often: {before.most.map((one) => `${one.symbol} ${number(one.trips)}`).join(", ")}
            </p>
          )}
        </>
      }
      table={
        <table>
          <thead>
            <tr>
              <th>Session</th>
              <th>Names</th>
            </tr>
          </thead>
          <tbody>
            {trips.map((many, place) =>
              many > 0 ? (
                <tr key={sessions[place]}>
                  <th scope="row">{date(sessions[place] ?? "", true)}</th>
                  <td>{number(many)}</td>
                </tr>
              ) : null,
            )}
          </tbody>
        </table>
      }
    />
  );
}
