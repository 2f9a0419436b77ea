import { useEffect, useState } from "react";
import { useAddress } from "@/shared/address";
import {
  type Tripwire,
  useArmTripwire,
  useDropTripwire,
  useRestoreTripwire,
  useTripwires,
} from "@/shared/api/tripwires";
import { count, moment, number } from "@/shared/format";
import { Gone, Refused } from "@/shared/ui/Kept";
import { Failed, Loading } from "@/shared/ui/States";
import { TripLog } from "./TripLog";
import { EMPTY, TripwireForm, type Wanted, wantedOf } from "./TripwireForm";

/** What is waited for, and what came. */
export default function TripwiresPage() {
  const answer = useTripwires();
  const [params, write] = useAddress();
  const arm = useArmTripwire();
  const drop = useDropTripwire();
  const restore = useRestoreTripwire();
  const [gone, setGone] = useState<Tripwire | null>(null);
  const [problem, setProblem] = useState<string | null>(null);
  const failed = (error: Error) => setProblem(error.message);
  useEffect(() => {
    document.title = "Tripwires · Flinch";
    return () => {
      document.title = "Flinch";
    };
  }, []);
  if (!answer.data)
    return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="your tripwires" />;
  const { tripwires, watched } = answer.data;
  const chosen = tripwires.find((one) => String(one.id) === params.get("of")) ?? null;
  const form = params.get("make");
  const edited: Wanted | null =
    form === null ? null : form === "1" ? fromAddress(params) : chosen ? wantedOf(chosen) : null;
  const leave = () => write({ make: null, source: null, why: null, text: null }, true);
  return (
    <div className="data tripwires">
      <section className="tripwire-list" aria-label="Tripwires">
        <header>
          <h1>Tripwires</h1>
          <button type="button" className="plain" onClick={() => write({ make: "1", of: null }, true)}>
            make one
          </button>
        </header>
        <p className="muted">
          {watched ? `Watched up to ${moment(watched)}, on every moment of the market.` : "Nothing is watched yet."}
        </p>
        <Refused problem={problem} />
        <Gone
          name={gone?.name ?? null}
          onUndo={() => gone && restore.mutate(gone.id, { onSuccess: () => setGone(null), onError: failed })}
        />
        {tripwires.length === 0 && (
          <p className="muted">
            None yet. Park names, say what you wait for, and Flinch tells when it happens: on every page, at the lower
            edge. <i>wait for</i> on a screen parks its survivors.
          </p>
        )}
        <ul>
          {tripwires.map((one) => (
            <li key={one.id} className={one.id === chosen?.id ? "chosen" : undefined}>
              <button
                type="button"
                className="screen-name"
                aria-pressed={one.id === chosen?.id}
                onClick={() => write({ of: one.id === chosen?.id ? null : String(one.id), make: null }, true)}
              >
                {one.name}
              </button>
              <span className={one.armed_at ? "armed" : "muted"}>{one.armed_at ? "armed" : "at rest"}</span>
              <span className="muted">
                {one.trips === 0 ? "has not told anything" : `told ${number(one.trips)}`}
                {one.unseen > 0 && <b>, {number(one.unseen)} new</b>}
                {one.last && `, last ${moment(one.last)}`}
              </span>
              <p className="formula">{one.words}</p>
              <p className="muted">
                on {one.of}
                {one.names !== null && ` (${count(one.names, "name")} now)`}
                {one.why.words ? ` · from ${String(one.why.words)}` : ""}
                {one.note && ` · ${one.note}`}
              </p>
              {one.error && (
                <p className="rule-error" role="alert">
                  It is not watched: {one.error}
                </p>
              )}
              <span className="screen-tools">
                <button
                  type="button"
                  className="quiet"
                  onClick={() => arm.mutate({ id: one.id, armed: one.armed_at === null }, { onError: failed })}
                >
                  {one.armed_at ? "put to rest" : "arm"}
                </button>
                <button
                  type="button"
                  className="quiet"
                  onClick={() => write({ of: String(one.id), make: "change" }, true)}
                >
                  change
                </button>
                <button
                  type="button"
                  className="quiet"
                  onClick={() => drop.mutate(one, { onSuccess: () => setGone(one), onError: failed })}
                >
                  remove
                </button>
              </span>
            </li>
          ))}
        </ul>
      </section>
      <section className="tripwire-part">
        {edited ? (
          <TripwireForm
            key={`${form} ${chosen?.id ?? ""}`}
            wanted={edited}
            id={form === "1" ? null : (chosen?.id ?? null)}
            onDone={(id) => write({ of: String(id), make: null, source: null, why: null, text: null }, true)}
            onLeave={leave}
          />
        ) : (
          <TripLog of={chosen} />
        )}
      </section>
    </div>
  );
}

/** What another page has parked. */
function fromAddress(params: URLSearchParams): Wanted {
  const source = params.get("source");
  return {
    ...EMPTY,
    ...(source && { source }),
    ...(params.get("text") && { text: params.get("text") as string }),
    ...(params.get("why") && { why: { page: "Screen", words: params.get("why"), link: "" } }),
  };
}
