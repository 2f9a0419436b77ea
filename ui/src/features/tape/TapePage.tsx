import { StackRoute } from "@/shared/stack/StackPage";
import { FIRST } from "./first";
import { TapeAt } from "./TapeAt";

/** Which option trades happened that are unusual for that name? All of the page stands in its address. */
export default function TapePage() {
  return (
    <StackRoute
      first={FIRST}
      what="your screens"
      lost="This screen of tickets is not there any more."
      begin={{ to: "/tape", words: "Begin with all tickets of the day" }}
      page={TapeAt}
    />
  );
}
