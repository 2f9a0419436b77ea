import { useEffect, useState } from "react";
import { Link } from "react-router";
import { useAddress } from "@/shared/address";
import { useTray } from "@/shared/api/queries";
import { useBase } from "@/shared/stack/base";
import { Failed, Loading } from "@/shared/ui/States";
import { FIRST, WORTH_A_LOOK } from "./first";
import { StructuresAt } from "./StructuresAt";

/** Which structures pay best for the risk, under more than one opinion? All of the page stands in its address. */
export default function StructuresPage() {
  const [params, write] = useAddress();
  const tray = useTray().data;
  const { base, screens } = useBase(params.get("screen"), FIRST);
  // An empty tray has nothing to show: the page opens on names worth looking at, and says so.
  const [greeting, setGreeting] = useState(params.get("screen") === null && params.get("u") === null);
  useEffect(() => {
    if (!greeting || tray === undefined) return;
    if (tray.items.length === 0) write({ u: WORTH_A_LOOK });
    setGreeting(false);
  }, [greeting, tray, write]);
  if (greeting) return <Loading what="your tray" />;
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
