import { useMemo } from "react";
import { Link } from "react-router";
import { useAddress } from "@/shared/address";
import { useScreens } from "@/shared/api/queries";
import { Failed, Loading } from "@/shared/ui/States";
import { type Base, ScreenAt } from "./ScreenAt";
import { FIRST, fromBody, toBody } from "./state";

/** Which names meet my rules, and which rule did the cutting? All of the page stands in its address. */
export function ScreenPage() {
  // Rules make a step that Back takes back; walking and sorting do not.
  const [params, write] = useAddress();
  const asked = params.get("screen");
  const screens = useScreens();
  const base = useMemo(() => findBase(asked, screens.data), [asked, screens.data]);
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

function findBase(asked: string | null, screens: ReturnType<typeof useScreens>["data"]): Base | null {
  if (asked === null) {
    const draft = { name: "", description: "", tags: [], body: toBody(FIRST), version: null };
    return { key: null, draft, screen: FIRST, saved: null };
  }
  const starter = screens?.starters.find((s) => `s-${s.key}` === asked);
  const saved = screens?.saved.find((s) => String(s.id) === asked) ?? null;
  const found = starter ?? saved;
  return found
    ? { key: asked, draft: { ...found, version: saved?.version ?? null }, screen: fromBody(found.body), saved }
    : null;
}
