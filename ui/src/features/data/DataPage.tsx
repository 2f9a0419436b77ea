import { useEffect } from "react";
import { useMarkets } from "@/shared/api/queries";
import { Failed, Loading } from "@/shared/ui/States";
import { Checks } from "./Checks";
import { Coverage } from "./Coverage";
import { Imports } from "./Imports";
import { Kinds } from "./Kinds";
import { Markets } from "./Markets";
import { Sources } from "./Sources";

/** What is loaded, from whom, and how old it is. */
export default function DataPage() {
  const answer = useMarkets();
  useEffect(() => {
    document.title = "Data · Flinch";
    return () => {
      document.title = "Flinch";
    };
  }, []);
  if (!answer.data)
    return answer.failureReason ? <Failed error={answer.failureReason} /> : <Loading what="the markets" />;
  return (
    <div className="data">
      <Markets list={answer.data} />
      <Imports zone={answer.data.markets.find(({ name }) => name === answer.data.market)?.zone ?? "UTC"} />
      <Kinds />
      <Coverage />
      <Sources />
      <Checks />
    </div>
  );
}
