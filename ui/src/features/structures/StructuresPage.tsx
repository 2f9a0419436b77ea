import { Link } from "react-router";
import { useAddress } from "@/shared/address";
import { useBase } from "@/shared/stack/base";
import { Failed, Loading } from "@/shared/ui/States";
import { FIRST } from "./first";
import { StructuresAt } from "./StructuresAt";

/** Which structures pay best for the risk, under more than one opinion? All of the page stands in its address. */
export default function StructuresPage() {
  const [params, write] = useAddress();
  const { base, screens } = useBase(params.get("screen"), FIRST);
  if (base) return <StructuresAt base={base} params={params} write={write} />;
  if (screens.data)
    return (
      <Failed error={new Error("This search is not there any more.")}>
        <p>
          <Link to="/structures">Begin with the names of the tray</Link>
        </p>
      </Failed>
    );
  return screens.failureReason ? <Failed error={screens.failureReason} /> : <Loading what="your searches" />;
}
