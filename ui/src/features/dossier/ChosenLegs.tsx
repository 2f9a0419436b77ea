import { asOfDay } from "@/shared/address";
import { useStructure } from "@/shared/api/queries";
import { number, signed } from "@/shared/format";
import { Link } from "@/shared/route";
import { oneAddress } from "@/shared/structures/one";
import type { Write } from "./part";

/** What was chosen in the chain, with its running price, and the way to it as a structure. */
export function ChosenLegs({
  symbol,
  text,
  asOf,
  onWrite,
}: {
  symbol: string;
  text: string | null;
  asOf: string | null;
  onWrite: Write;
}) {
  return (
    <p className="chosen-legs" role="status">
      {text ? (
        <Chosen symbol={symbol} text={text} asOf={asOf} onWrite={onWrite} />
      ) : (
        <span className="muted">
          Choose legs: an ask buys one, a bid sells one; on a strike c and v buy a call and a put, with Shift they sell.
        </span>
      )}
    </p>
  );
}

function Chosen({
  symbol,
  text,
  asOf,
  onWrite,
}: {
  symbol: string;
  text: string;
  asOf: string | null;
  onWrite: Write;
}) {
  const answer = useStructure({
    symbol,
    legs: text,
    against: null,
    entry: 0.3,
    ahead: null,
    shift: 0,
    scaled: false,
    as_of: asOf,
  });
  const one = answer.data?.reply.structure;
  const failed = answer.failureReason;
  return (
    <>
      {one && !failed ? (
        <>
          <b>{one.label}</b> {one.words}:{" "}
          {one.problem ? (
            <span className="warn">{one.problem}</span>
          ) : (
            <>
              {one.cost !== null && one.cost < 0 ? "credit" : "cost"}{" "}
              <b>{number(one.cost === null ? null : Math.abs(one.cost))} $</b>, mid {number(one.mid)}, worst side{" "}
              {number(one.natural)}
              {one.breakevens.length > 0 &&
                `; breakeven ${one.breakevens.map((edge) => `${number(edge.price, 2)} (${signed(edge.moves, 2)} σ)`).join(", ")}`}
            </>
          )}
        </>
      ) : (
        <span className={failed ? "warn" : "muted"}>{failed ? failed.message : "pricing …"}</span>
      )}{" "}
      <Link to={asOfDay(oneAddress(`${symbol} ${text}`), asOf)}>open as a structure</Link>{" "}
      <button type="button" className="quiet" onClick={() => onWrite({ legs: null })}>
        choose none
      </button>
    </>
  );
}
