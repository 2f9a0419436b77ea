import type { Schemas } from "@/shared/api/client";
import { compact, date, number, signedCompact } from "@/shared/format";
import { Defined } from "@/shared/ui/Defined";
import { Scrolling } from "@/shared/ui/Scrolling";
import type { Write } from "./part";

type Data = Schemas["PositioningView"];

const BUCKETS = { week: "this week", month: "this month", beyond: "beyond" } as const;

/** Exposure by expiration and by week and month; what is chosen here is what the strikes and the profile show. */
export function ExpiryExposure({ data, asked, onWrite }: { data: Data; asked: string[]; onWrite: Write }) {
  const all = data.expiries.map((expiry) => expiry.expiration);
  // As it was asked for, not as it was answered: a tick shows at once.
  const known = asked.filter((day) => all.includes(day));
  const chosen = known.length > 0 ? known : all;
  const choose = (days: string[]) =>
    onWrite({ expirations: days.length === 0 || days.length === all.length ? null : days.join(",") });
  const toggle = (day: string) =>
    choose(chosen.includes(day) ? chosen.filter((other) => other !== day) : [...chosen, day].sort());
  return (
    <section className="figure expiries">
      <header>
        <h2>
          By expiration{" "}
          <span className="aside">
            {data.roll_off_pct !== null && data.next_expiration && (
              <>
                <b>{number(data.roll_off_pct)} %</b> <Defined by="roll_off_share">rolls off</Defined> on{" "}
                {date(data.next_expiration)}
              </>
            )}
          </span>
        </h2>
        <div className="figure-controls">
          <button type="button" className="quiet" onClick={() => choose([])}>
            all
          </button>
          {data.buckets.map(({ bucket, share }) => {
            const days = data.expiries.filter((expiry) => expiry.bucket === bucket).map((expiry) => expiry.expiration);
            return (
              <button
                key={bucket}
                type="button"
                className="quiet"
                disabled={days.length === 0}
                onClick={() => choose(days)}
              >
                {BUCKETS[bucket]} {share === null ? "" : `${number(share)} %`}
              </button>
            );
          })}
        </div>
      </header>
      <Scrolling label="Expirations">
        <table>
          <thead>
            <tr>
              <th>Expiration</th>
              <th title="$ a 1 % move">Calls $</th>
              <th title="$ a 1 % move">Puts $</th>
              <th title="$ a 1 % move">Net $</th>
              <th title="Of gross exposure">Share %</th>
              <th title="Contracts">Open</th>
              <th title="Put over call open interest">P/C</th>
              <th title="Contracts opened less closed since the session before">Opened</th>
            </tr>
          </thead>
          <tbody>
            {data.expiries.map((expiry) => (
              <tr key={expiry.expiration} className={chosen.includes(expiry.expiration) ? undefined : "left-out"}>
                <th scope="row">
                  <label className={expiry.monthly ? "monthly" : undefined}>
                    <input
                      type="checkbox"
                      checked={chosen.includes(expiry.expiration)}
                      onChange={() => toggle(expiry.expiration)}
                    />{" "}
                    {date(expiry.expiration, expiry.days > 300)}
                  </label>
                </th>
                <td>{compact(expiry.call)}</td>
                <td>{compact(expiry.put)}</td>
                <td>{signedCompact(expiry.net)}</td>
                <td>{number(expiry.share, 1)}</td>
                <td>{compact(expiry.interest)}</td>
                <td>{number(expiry.put_call, 2)}</td>
                <td>{signedCompact(expiry.opened)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scrolling>
    </section>
  );
}
