import { Link } from "react-router";
import { useAddress } from "@/shared/address";
import { useBase } from "@/shared/stack/base";
import { Failed, Loading } from "@/shared/ui/States";
import { FIRST } from "./first";
import { ScreenAt } from "./ScreenAt";

/** Which names meet my rules, and which rule did the cutting? All of the page stands in its address. */
export function ScreenPage() {
  // Rules make a step that Back takes back; walking and sorting do not.
  const [params, write] = useAddress();
  const { base, screens } = useBase(params.get("screen"), FIRST);
  if (base) return <ScreenAt base={base} params={params} write={write} />;
  if (screens.data)
    return (
      <Failed error={new Error("This screen is not there any more.")}>
        <p>
          <Link to="/screen">Begin with the whole market</Link>
        </p>
      </Failed>
    );
  return screens.failureReason ? <Failed error={screens.failureReason} /> : <Loading what="your screens" />;
}
