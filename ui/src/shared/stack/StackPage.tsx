import { type ReactNode, useMemo, useRef } from "react";
import { asOfDay, useAddress } from "@/shared/address";
import { ApiError, type Metric, type RuleReport } from "@/shared/api/client";
import { useBaskets, useChangeTray, useMarket, useTray } from "@/shared/api/queries";
import { number } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { Link, useNavigate } from "@/shared/route";
import { soon, useRowsBusy, whenRows } from "@/shared/settled";
import { AsOf } from "@/shared/ui/AsOf";
import { Failed, Loading } from "@/shared/ui/States";
import { useSaid } from "@/shared/ui/useSaid";
import { type Base, useBase } from "./base";
import type { Held } from "./held";
import { Stack, universeWords } from "./Stack";
import { type Rule, reasonFor, type Screen } from "./state";
import type { Things } from "./things";
import { useKeptScreen } from "./useKeptScreen";
import { useStack } from "./useStack";
import { useWalk } from "./walk";

/** What a page of a stack and what it leaves is given: the screen it began with, its address, and how that is written. */
export type StackAddress = {
  base: Base;
  params: URLSearchParams;
  write: (changes: Record<string, string | null>, step?: boolean) => void;
};

/** A reply to a stack, with the request that it answers. */
type Answer<Request, Reply> = {
  data?: { reply: Reply; request: Request };
  failureReason: Error | null;
  isPlaceholderData: boolean;
};
type AnyReply = {
  version: number;
  symbols: string[];
  past: string | null;
  session: string;
  universe: number;
  rules: RuleReport[];
};

/** All that the pages of a stack share: the screen in the address, the walk over rows, the tray, and what is kept, copied, taken out. */
export function useStackPage(things: Things, first: Screen, { base, params, write }: StackAddress) {
  const baskets = useBaskets().data;
  const tray = useTray();
  const changeTray = useChangeTray();
  const navigate = useNavigate();
  const grid = useRef<HTMLDivElement>(null);
  const { said, say, copy, takeOut } = useSaid();
  const stack = useStack(base, params, write);
  const { screen, changed } = stack;
  const asOf = params.get("asof");
  const { focused, walk, leave } = useWalk(params.get("at"), write);
  const link = `${things.page}?${params}`;
  const why = reasonFor(screen, things, base.draft.name || null, universeWords(screen.universe, baskets), link);
  const kept = useKeptScreen({ things, base, first, screen, changed, link, write, onSaid: say });
  const inTray = useMemo(() => new Set(tray.data?.items.map((item) => item.symbol)), [tray.data]);
  useKeys({
    r: () => whenRows(() => grid.current?.querySelector<HTMLElement>("[tabindex='0']")?.focus()),
    o: kept.choose,
  });
  return {
    things,
    write,
    stack,
    asOf,
    focused,
    walk,
    link,
    why,
    kept,
    grid,
    said,
    say,
    copy,
    takeOut,
    tray,
    inTray,
    changeTray,
    keep: (symbols: string[]) => changeTray.mutate({ kind: "add", symbols, why: { ...why, values: {} } }),
    /** Another page as of the same session; the row stays in the address of this one. */
    go: (address: string, row: string | null = focused) => {
      if (row !== null) leave(row);
      // One step after the other: a second navigation at once would drop the first.
      soon(() => navigate(asOfDay(address, asOf)));
    },
  };
}

export type StackPage = ReturnType<typeof useStackPage>;

/** An answer as the page shows it: what it says, whether it answers what was last asked, what keeps it from being shown. */
export function useAnswered<Request extends { stack: { rules: Pick<Rule, "text">[] } }, Reply extends AnyReply>(
  page: StackPage,
  answer: Answer<Request, Reply>,
) {
  const reply = answer.data?.reply;
  const asked = answer.data?.request;
  const failed = answer.failureReason;
  // What is not answered because the server is away is said beside the rows, which stay as they are.
  const waiting = !failed && (!reply || answer.isPlaceholderData);
  useRowsBusy(waiting);
  return {
    reply,
    /** What the reply answers. */
    asked,
    failed,
    waiting,
    /** Whether what is shown is from before the last change, and will stay so for now. */
    before: answer.isPlaceholderData && failed !== null,
    refused: failed instanceof ApiError && !failed.passing ? failed : null,
    reports: page.stack.reportsOf(asked?.stack.rules ?? [], reply?.rules),
    /** What is told of when it is not the newest: a session, or a minute of it. */
    past: reply?.past ?? null,
    fresh: reply?.symbols.filter((name) => !page.inTray.has(name)) ?? [],
  };
}

type Answered = Omit<ReturnType<typeof useAnswered>, "asked" | "reply"> & { reply: AnyReply | undefined };

/** The stack beside what it leaves, under a line that says how many, as of when, and has the tools. */
export function StackFrame({
  page,
  answered,
  names,
  metrics,
  className = "",
  survivors,
  beside,
  held,
  tools,
  children,
}: {
  page: StackPage;
  answered: Answered;
  names: Metric[];
  metrics: Map<string, Metric>;
  className?: string;
  /** How many survive, in words; nothing before the first answer. */
  survivors: ReactNode;
  /** Beside the session: what else says of when the rows are. */
  beside?: ReactNode;
  /** The list that keeps its order while the market moves. */
  held: Pick<Held<unknown>, "came" | "left" | "moved" | "reorder"> | null;
  tools: ReactNode;
  children: ReactNode;
}) {
  const newest = useMarket().data?.sessions.at(-1) ?? null;
  const { reply, waiting } = answered;
  return (
    <div className={`screen ${className}`}>
      <Stack
        things={page.things}
        stack={page.stack}
        reports={answered.reports}
        universe={reply?.universe ?? null}
        names={names}
        metrics={metrics}
      >
        {page.kept.head}
      </Stack>
      <section className="results" aria-label="Results" aria-busy={waiting}>
        <header>
          <h2 aria-live="polite">
            {reply ? (
              <>
                {survivors}
                {answered.before && ", before your last change"}
              </>
            ) : (
              " "
            )}
          </h2>
          <AsOf session={reply?.session ?? newest} onWrite={page.write} />
          {beside}
          {held && <Reorder {...held} />}
          <span className="said" role="status">
            {page.said}
          </span>
          {tools}
        </header>
        {children}
      </section>
      {page.kept.dialogs}
    </div>
  );
}

/** Who came into a list and who left it since it was put in order, and the way to the new order. */
function Reorder({ came, left, moved, reorder }: Pick<Held<unknown>, "came" | "left" | "moved" | "reorder">) {
  const differs = came.length > 0 || left.size > 0 || moved;
  useKeys(differs ? { w: reorder } : {});
  if (!differs) return null;
  const parts = [came.length > 0 && `${number(came.length)} came`, left.size > 0 && `${number(left.size)} left`];
  const who = [came.length > 0 && `came: ${named(came)}`, left.size > 0 && `left: ${named([...left])}`];
  return (
    <span className="held" title={who.filter(Boolean).join("; ") || undefined}>
      {parts.filter(Boolean).join(", ") || "another order by now"}:{" "}
      <button type="button" className="quiet" title="Take the order of this moment (w)" onClick={reorder}>
        reorder
      </button>
    </span>
  );
}

const MOST_NAMED = 12;
const named = (keys: string[]) =>
  keys.slice(0, MOST_NAMED).join(", ") +
  (keys.length > MOST_NAMED ? ` and ${number(keys.length - MOST_NAMED)} more` : "");

/** What a reply says, or why there is none to show: it was refused, it failed, or it is on its way. */
export function Replied({
  answered: { refused, failed },
  ready,
  what,
  children,
}: {
  answered: Pick<Answered, "refused" | "failed">;
  /** Whether there is a reply to what is shown. */
  ready: boolean;
  what: string;
  children: () => ReactNode;
}) {
  if (refused) return <Failed error={refused} />;
  if (ready) return children();
  return failed ? <Failed error={failed} /> : <Loading what={what} />;
}

/** The screen of an address on its page; when it is not there any more, where to begin. */
export function StackRoute({
  first,
  what,
  lost,
  begin,
  page: Page,
}: {
  first: Screen;
  /** What is being read, in words. */
  what: string;
  /** Said of a screen that is gone. */
  lost: string;
  begin: { to: string; words: string };
  page: (address: StackAddress) => ReactNode;
}) {
  const [params, write] = useAddress();
  const { base, screens } = useBase(params.get("screen"), first);
  if (base) return <Page base={base} params={params} write={write} />;
  if (screens.data)
    return (
      <Failed error={new Error(lost)}>
        <p>
          <Link to={begin.to}>{begin.words}</Link>
        </p>
      </Failed>
    );
  return screens.failureReason ? <Failed error={screens.failureReason} /> : <Loading what={what} />;
}
