import { type ComponentType, lazy, Suspense } from "react";
import { useHold } from "@/shared/settled";

/** Nothing to see yet, and the page is not settled. */
function Coming() {
  useHold(true);
  return null;
}

const SOON_MS = 1500;

/** A part that the first page does without: fetched soon after it, so that it is there when it is asked for. */
export function later<Props extends object>(load: () => Promise<ComponentType<Props>>): ComponentType<Props> {
  let fetched: Promise<{ default: ComponentType<Props> }> | null = null;
  const fetch = () => {
    // What could not be fetched is fetched again when it is needed.
    fetched ??= load().then(
      (part) => ({ default: part }),
      (error) => {
        fetched = null;
        throw error;
      },
    );
    return fetched;
  };
  setTimeout(() => fetch().catch(() => undefined), SOON_MS);
  const Loaded = lazy(fetch) as unknown as ComponentType<Props>;
  return (props) => (
    <Suspense fallback={<Coming />}>
      <Loaded {...props} />
    </Suspense>
  );
}
