import { Link } from "react-router";
import { useAddress } from "@/shared/address";
import { useBase } from "@/shared/stack/base";
import { Failed, Loading } from "@/shared/ui/States";
import { FIRST } from "./first";
import { TapeAt } from "./TapeAt";

/** Which option trades happened that are unusual for that name? All of the page stands in its address. */
export default function TapePage() {
  const [params, write] = useAddress();
  const { base, screens } = useBase(params.get("screen"), FIRST);
  if (base) return <TapeAt base={base} params={params} write={write} />;
  if (screens.data)
    return (
      <Failed error={new Error("This screen of tickets is not there any more.")}>
        <p>
          <Link to="/tape">Begin with all tickets of the day</Link>
        </p>
      </Failed>
    );
  return screens.failureReason ? <Failed error={screens.failureReason} /> : <Loading what="your screens" />;
}
