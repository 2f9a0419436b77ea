import type { Schemas } from "@/shared/api/client";
import { date } from "@/shared/format";
import { RecordTable } from "@/shared/ui/RecordTable";

/** Whether shelves of the names left were any better than prices where nothing was printed. */
export function ShelfRecord({ data, stale }: { data: Schemas["ShelfRecord"]; stale: boolean }) {
  return (
    <div className="shelf-record" aria-busy={stale}>
      <h3>Do shelves hold?</h3>
      <section className="record">
        <RecordTable rows={data.rows} />
      </section>
      <p className="muted">
        A test begins when price reaches a shelf as it was known the evening before, by the prints of twenty sessions.
        It held with a close back on the side it came from, a quarter of an expected move away; it broke with the second
        close in a row beyond. The placebo is the same band the same evening at the same distance on the other side of
        price, where nothing was printed for it to be there. The interval allows for names and sessions that go
        together, and those of parts for being looked at together; under thirty sessions with tests nothing is said.
        {data.first_session && ` Tests since ${date(data.first_session, true)}.`}
      </p>
    </div>
  );
}
