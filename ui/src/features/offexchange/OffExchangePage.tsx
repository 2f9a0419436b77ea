import { Link } from "react-router";
import { useAddress } from "@/shared/address";
import { useBase } from "@/shared/stack/base";
import { Failed, Loading } from "@/shared/ui/States";
import { FIRST } from "./first";
import { OffExchangeAt } from "./OffExchangeAt";

/** At which prices did the big off-exchange prints land, and where is price against them? All of the page stands in its address. */
export default function OffExchangePage() {
  const [params, write] = useAddress();
  const { base, screens } = useBase(params.get("screen"), FIRST);
  if (base) return <OffExchangeAt base={base} params={params} write={write} />;
  if (screens.data)
    return (
      <Failed error={new Error("This screen is not there any more.")}>
        <p>
          <Link to="/off-exchange">Begin with all companies</Link>
        </p>
      </Failed>
    );
  return screens.failureReason ? <Failed error={screens.failureReason} /> : <Loading what="your screens" />;
}
