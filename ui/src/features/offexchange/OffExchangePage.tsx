import { StackRoute } from "@/shared/stack/StackPage";
import { FIRST } from "./first";
import { OffExchangeAt } from "./OffExchangeAt";

/** At which prices did the big off-exchange prints land, and where is price against them? All of the page stands in its address. */
export default function OffExchangePage() {
  return (
    <StackRoute
      first={FIRST}
      what="your screens"
      lost="This screen is not there any more."
      begin={{ to: "/off-exchange", words: "Begin with all companies" }}
      page={OffExchangeAt}
    />
  );
}
