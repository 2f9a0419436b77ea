import { useState } from "react";
import { download, type Writing } from "@/shared/api/client";
import { useKinds } from "@/shared/api/queries";
import { DASH, date } from "@/shared/format";
import { Failed, Loading } from "@/shared/ui/States";
import { Progress } from "./Progress";

/** What the open market has of every kind of data, and how old it is. */
export function Kinds() {
  const answer = useKinds();
  const list = answer.data;
  if (!list) return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="what is loaded" />;
  return (
    <section aria-labelledby="kinds-title">
      <h2 id="kinds-title">What {list.market} holds</h2>
      <TakeAllOut kinds={list.kinds.filter((kind) => kind.any).map(({ kind }) => kind)} />
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

/** Kinds as files that can be loaded again. */
function TakeAllOut({ kinds }: { kinds: string[] }) {
  const [of, setOf] = useState("all");
  const [form, setForm] = useState("parquet");
  const [writing, setWriting] = useState<Writing | null>(null);
  const [error, setError] = useState<string | null>(null);
  const take = async () => {
    setError(null);
    try {
      await download(`/api/data/export?of=${of}&form=${form}`, undefined, setWriting);
    } catch (cause) {
      setError(cause instanceof Error ? cause.message : String(cause));
    } finally {
      setWriting(null);
    }
  };
  if (kinds.length === 0) return null;
  return (
    <div className="take-out">
      <select aria-label="What is taken out" value={of} onChange={(event) => setOf(event.target.value)}>
        <option value="all">all of it</option>
        {kinds.map((kind) => (
          <option key={kind} value={kind}>
            {kind.replaceAll("_", " ")}
          </option>
        ))}
      </select>{" "}
      as{" "}
      <select aria-label="Form of the files" value={form} onChange={(event) => setForm(event.target.value)}>
        <option value="parquet">Parquet</option>
        <option value="csv">CSV</option>
      </select>{" "}
      <button type="button" className="plain" disabled={writing !== null} onClick={() => void take()}>
        take out
      </button>
      {writing && <Progress stage="writing the files" percent={writing.percent} onStop={writing.stop} />}
      {error && <p role="alert">{error}</p>}
    </div>
  );
}
