import {
  createContext,
  type ReactNode,
  type RefObject,
  useCallback,
  useContext,
  useMemo,
  useRef,
  useState,
} from "react";
import type { Why } from "@/shared/api/client";

/** The name that the keys and the Peek are about, why it would go to the tray, and as of which past session it is shown. */
export type Subject = {
  symbol: string;
  why: Why;
  asOf?: string | null;
  /** What the page has to show of it in the Peek. */
  figure?: ReactNode;
  /** A time of the session that the page looks at: what is only known later is then not shown. */
  until?: string | null;
};

type State = {
  subject: Subject | null;
  setSubject: (subject: Subject | null) => void;
  /** The same, also before it is drawn: a key pressed right after a step is about the name stepped to. */
  latest: RefObject<Subject | null>;
  /** A name looked at in passing, in the tray for one: the Peek shows it until focus leaves it. */
  glance: string | null;
  setGlance: (symbol: string | null) => void;
};

const Context = createContext<State | null>(null);

export function SubjectProvider({ children }: { children: ReactNode }) {
  const [subject, choose] = useState<Subject | null>(null);
  const [glance, setGlance] = useState<string | null>(null);
  const latest = useRef<Subject | null>(null);
  const setSubject = useCallback((next: Subject | null) => {
    latest.current = next;
    setGlance(null);
    choose(next);
  }, []);
  const state = useMemo(() => ({ subject, setSubject, latest, glance, setGlance }), [subject, setSubject, glance]);
  return <Context.Provider value={state}>{children}</Context.Provider>;
}

export function useSubject(): State {
  const state = useContext(Context);
  if (!state) throw new Error("useSubject outside SubjectProvider");
  return state;
}
