import { useEffect, useState } from "react";
import { useAddress } from "@/shared/address";
import { useTray } from "@/shared/api/queries";
import { StackRoute } from "@/shared/stack/StackPage";
import { Loading } from "@/shared/ui/States";
import { FIRST, WORTH_A_LOOK } from "./first";
import { StructuresAt } from "./StructuresAt";

/** Which structures pay best for the risk, under more than one opinion? All of the page stands in its address. */
export default function StructuresPage() {
  const [params, write] = useAddress();
  const tray = useTray().data;
  // An empty tray has nothing to show: the page opens on names worth looking at, and says so.
  const [greeting, setGreeting] = useState(params.get("screen") === null && params.get("u") === null);
  useEffect(() => {
    if (!greeting || tray === undefined) return;
    if (tray.items.length === 0) write({ u: WORTH_A_LOOK });
    setGreeting(false);
  }, [greeting, tray, write]);
  if (greeting) return <Loading what="your tray" />;
  return (
    <StackRoute
      first={FIRST}
      what="your searches"
      lost="This search is not there any more."
      begin={{ to: "/structures", words: "Begin with the names of the tray" }}
      page={StructuresAt}
    />
  );
}
