import { useKinds } from "@/shared/api/queries";
import { DASH, date } from "@/shared/format";
import { Failed, Loading } from "@/shared/ui/States";

/** What the open market has of every kind of data, and how old it is. */
export function Kinds() {
  const answer = useKinds();
  const list = answer.data;
  if (!list) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="what is loaded" />;
  return (
    <section aria-labelledby="kinds-title">
      <h2 id="kinds-title">What {list.market} holds</h2>
      <table className="plain-table">
        <thead>
          <tr>
            <th className="words">Kind</th>
            <th className="words">From</th>
            <th className="words">To</th>
            <th>Behind sessions</th>
            <th className="words">Next</th>
            <th className="words">What it is</th>
            <th className="words">Columns of a file</th>
          </tr>
        </thead>
        <tbody>
          {list.kinds.map((kind) => (
            <tr key={kind.kind} className={kind.any ? undefined : "none"}>
              <th scope="row" className="words">
                {kind.kind.replaceAll("_", " ")}
              </th>
              <td className="words">{kind.first ? date(kind.first, true) : kind.any ? "at any time" : "none"}</td>
              <td className="words">{kind.last ? date(kind.last, true) : DASH}</td>
              <td>{kind.sessions_behind ?? DASH}</td>
              <td className="words">{kind.expected ? date(kind.expected) : DASH}</td>
              <td className="words kinds">{kind.words}</td>
              <td className="words kinds">
                {kind.columns.map((name, place) => (
                  <span key={name}>
                    {place > 0 && ", "}
                    {kind.needed.includes(name) ? <b>{name}</b> : name}
                  </span>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
