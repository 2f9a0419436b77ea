import { StackRoute } from "@/shared/stack/StackPage";
import { FIRST } from "./first";
import { ScreenAt } from "./ScreenAt";

/** Which names meet my rules, and which rule did the cutting? All of the page stands in its address. */
export function ScreenPage() {
  return (
    <StackRoute
      first={FIRST}
      what="your screens"
      lost="This screen is not there any more."
      begin={{ to: "/screen", words: "Begin with the whole market" }}
      page={ScreenAt}
    />
  );
}
