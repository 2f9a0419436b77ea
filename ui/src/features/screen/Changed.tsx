import { asOfDay, useAsOf } from "@/shared/address";
import type { Schemas } from "@/shared/api/client";
import { count, date, moment } from "@/shared/format";
import { Link } from "@/shared/route";
import type { Rule } from "@/shared/stack/state";

/** What came in and went out against another session, and by which rule. */
export function Changed({
  changed,
  rules,
  children,
}: {
  changed: Schemas["Changed"] | null;
  rules: Rule[];
  children: React.ReactNode;
}) {
  return (
    <section className="changed" aria-label="What changed">
      <header>
        {children}
        {changed?.reason && <span>{changed.reason}</span>}
        {changed && !changed.reason && (
          <span>
            since <b>{changed.moment ? moment(changed.moment) : date(changed.session, true)}</b>:{" "}
            {count(changed.stayed, "name")} stayed
          </span>
        )}
      </header>
      {changed && (
        <div>
          <List title="came in" moved={changed.came_in} rules={rules} verb="kept out then by" />
          <List title="went out" moved={changed.went_out} rules={rules} verb="cut now by" />
        </div>
      )}
    </section>
  );
}

function List({
  title,
  moved,
  rules,
  verb,
}: {
  title: string;
  moved: Schemas["Moved"][];
  rules: Rule[];
  verb: string;
}) {
  const asOf = useAsOf();
  // Names that moved for the same reason stand together.
  const reasons = new Map<string, Schemas["Moved"][]>();
  for (const name of moved) {
    const key = name.by.join(",");
    reasons.set(key, [...(reasons.get(key) ?? []), name]);
  }
  const said = (by: number[]) =>
    by.length === 0
      ? "no rule as it stands now"
      : by.map((place) => rules[place]?.text ?? `rule ${place + 1}`).join(" · ");
  return (
    <div>
      <h3>
        {moved.length} {title}
      </h3>
      <dl>
        {[...reasons.values()].map((group) => (
          <div key={group[0]?.symbol}>
            <dt>
              {verb} {said(group[0]?.by ?? [])}
            </dt>
            <dd>
              {group.map((name) => (
                <Link key={name.symbol} to={asOfDay(`/dossier/${name.symbol}`, asOf)} title={name.company}>
                  {name.symbol}
                </Link>
              ))}
            </dd>
          </div>
        ))}
      </dl>
      {moved.length === 0 && <p className="muted">Nobody.</p>}
    </div>
  );
}
