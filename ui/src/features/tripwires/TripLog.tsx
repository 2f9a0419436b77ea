import { useState } from "react";
import { type Tripwire, useSeeTrips, useTrips } from "@/shared/api/tripwires";
import { count, moment, number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { tripAddress, tripNumbers } from "@/shared/tripWords";
import { Failed, Loading } from "@/shared/ui/States";

const AT_ONCE = 100;
const MOST = 500;

/** What tripped, the newest first: of one tripwire, or of all. */
export function TripLog({ of }: { of: Tripwire | null }) {
  const [most, setMost] = useState(AT_ONCE);
  const answer = useTrips(of?.id ?? null, most);
  const see = useSeeTrips();
  const trips = answer.data?.trips;
  if (!trips) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the log" />;
  const fresh = trips.filter((trip) => !trip.seen);
  return (
    <>
      <header>
        <h2>{of ? of.name : "What tripped"}</h2>
        {fresh.length > 0 && (
          <button type="button" className="quiet" onClick={() => see.mutate(fresh.map(({ id }) => id))}>
            all {number(fresh.length)} seen
          </button>
        )}
      </header>
      {trips.length === 0 ? (
        <p className="muted">
          Nothing yet{of && !of.armed_at ? ": it is at rest." : ". What holds already when it is armed does not trip."}
        </p>
      ) : (
        <table className="plain-table">
          <thead>
            <tr>
              <th className="words">When</th>
              <th className="words">Name</th>
              <th className="words">What</th>
              <th>Price $</th>
              <th title="How far price has gone since, in moves that were priced for a day then">Since σ</th>
            </tr>
          </thead>
          <tbody>
            {trips.map((trip) => (
              <tr key={trip.id} className={trip.seen ? undefined : "fresh"}>
                <td className="words">
                  {moment(trip.moment)}
                  {trip.missed && (
                    <div
                      className="warn"
                      title="Nothing watched at that moment: it was found afterwards, from the minutes kept"
                    >
                      found afterwards
                    </div>
                  )}
                </td>
                <th scope="row" className="words">
                  <Link to={tripAddress(trip)} title="As it was then">
                    {trip.symbol}
                  </Link>
                </th>
                <td className="words">
                  {trip.words}
                  <div className="muted">
                    {[tripNumbers(trip), of ? "" : (trip.name ?? "")].filter(Boolean).join(" · ")}
                  </div>
                </td>
                <td>{number(trip.price, 2)}</td>
                <td>{signed(trip.since, 2)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {trips.length === most && most < MOST && (
        <button type="button" className="quiet" onClick={() => setMost(MOST)}>
          more than {count(AT_ONCE, "trip")}
        </button>
      )}
    </>
  );
}
