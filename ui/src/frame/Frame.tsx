import { useIsFetching, useMutationState, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Outlet, useLocation } from "react-router";
import { asOfDay, lastAddress, useAsOf } from "@/shared/address";
import { chooseMarket } from "@/shared/api/choose";
import { ApiError } from "@/shared/api/client";
import { useChangeTray, useMarket, useMarkets, useToggleTray, useTray } from "@/shared/api/queries";
import { useTold } from "@/shared/api/told";
import { Mark } from "@/shared/chart/Mark";
import { useConflict } from "@/shared/conflict";
import { city, date, instant } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { marketHere } from "@/shared/market";
import { NavLink, useNavigate } from "@/shared/route";
import { useSettledMark, whenRows } from "@/shared/settled";
import { later } from "@/shared/ui/later";
import { type Action, FindBox } from "./FindBox";
import { Peek } from "./Peek";
import { Played } from "./Played";
import { DATA, GROUPS, HANDBOOK, isOn, PAGES, type Page } from "./pages";
import { Running } from "./Running";
import { useSubject } from "./subject";
import { TrayBar } from "./TrayBar";
import { Trips } from "./Trips";
import { useTheme } from "./theme";

const ConflictDialog = later(() => import("./ConflictDialog").then((part) => part.ConflictDialog));
const Keys = later(() => import("./Keys").then((part) => part.Keys));
const Plans = later(() => import("./Plans").then((part) => part.Plans));
const Lists = later(() => import("./Lists").then((part) => part.Lists));

/** Pages whose Peek shows the focused name among what is looked at. */
const WITH_FIGURE = ["/tape", "/off-exchange"];

/** What stays around every page: top bar, Peek, tray, and the keys. */
export function Frame() {
  const { subject, latest, glance } = useSubject();
  const { theme, toggle: toggleTheme } = useTheme();
  const [peekOpen, setPeekOpen] = useState(true);
  const [keysShown, setKeysShown] = useState(false);
  const [lists, setLists] = useState(false);
  const [plans, setPlans] = useState(false);
  const search = useRef<HTMLInputElement>(null);
  const trayList = useRef<HTMLUListElement>(null);
  const trips = useRef<HTMLElement>(null);
  const navigate = useNavigate();
  const location = useLocation();
  const main = useSettledMark(useQueryClient(), location.key);
  const tray = useTray();
  const conflict = useConflict();
  const change = useChangeTray();
  const { toggle } = useToggleTray();
  // The session goes along from page to page.
  const asOf = useAsOf();
  const there = (page: string) => asOfDay(lastAddress(page), asOf);
  const dossierOf = (name: typeof subject) => asOfDay(name ? `/dossier/${name.symbol}` : "/dossier", asOf);

  const onDossier = location.pathname.startsWith("/dossier/");
  const onOne = location.pathname.startsWith("/structure/");
  const onScreen = ["/screen", "/structures", ...WITH_FIGURE].includes(location.pathname);
  const looked = glance === null && WITH_FIGURE.includes(location.pathname) ? subject : null;
  // A Dossier says it all about its own name, and so does a structure: the Peek is for another one.
  const peeked = glance ?? (onDossier || onOne ? null : (subject?.symbol ?? null));
  const showPeek = peekOpen && (peeked !== null || onScreen);

  const addressOf = (page: Page) => (page.path === "/dossier" ? dossierOf(latest.current) : there(page.path));
  const undo = () => tray.data?.undo && change.mutate({ kind: "undo", version: tray.data.version });
  const actions: Action[] = [
    { press: "t", words: "put the focused name in the tray, or take it out", act: toTray },
    { press: "u", words: "undo the last change of the tray", act: undo },
    { press: "y", words: "move to the tray", act: () => trayList.current?.querySelector("button")?.focus() },
    { press: "l", words: "lists: keep only, add, remove, paste symbols, baskets", act: () => setLists(true) },
    { press: "i", words: "plans, and what they come to together", act: () => setPlans(true) },
    { press: "g", words: "structures of the focused name", act: toStructures },
    { press: "p", words: "show or hide the Peek", act: () => setPeekOpen(!peekOpen) },
    { press: "!", words: "move to what tripped", act: () => trips.current?.querySelector("a")?.focus() },
    { press: "m", words: "light or dim", act: toggleTheme },
    { press: "?", words: "all keys", act: () => setKeysShown(true) },
  ];

  useKeys({
    ...Object.fromEntries(actions.map(({ press, act }) => [press, act])),
    ...Object.fromEntries(PAGES.map((page) => [page.press, () => navigate(addressOf(page))])),
    "/": () => search.current?.focus(),
    d: () => whenRows(() => navigate(dossierOf(latest.current))),
    h: () => {
      // Of what has focus: a column of the results, a rule, a number with a definition.
      const metric = document.activeElement?.closest<HTMLElement>("[data-metric]")?.dataset.metric;
      navigate(metric ? asOfDay(`/handbook/${metric}`, asOf) : there("/handbook"));
    },
  });
  function toTray() {
    whenRows(() => latest.current && toggle(latest.current.symbol, latest.current.why));
  }
  function toStructures() {
    whenRows(() => latest.current && navigate(asOfDay(`/structures?u=name:${latest.current.symbol}`, asOf)));
  }

  return (
    <div className={showPeek ? "frame with-peek" : "frame"}>
      <header className="topbar">
        <NavLink to={there("/screen")} className="brand" aria-label="Flinch: to the Screen">
          <Mark className="brand-mark" /> Flinch
        </NavLink>
        <Pages at={location.pathname} to={addressOf} />
        <FindBox inputRef={search} actions={actions} />
        <AsOf past={asOf} />
        {!asOf?.includes("T") && <Running />}
        <MarketChoice />
        <button type="button" className="quiet" onClick={toggleTheme} title="Light or dim (m)">
          {theme === "dim" ? "light" : "dim"}
        </button>
        <button type="button" className="quiet" onClick={() => setKeysShown(true)} aria-label="Keys">
          ?
        </button>
      </header>
      <div className="notices">
        <Away />
        <Coming />
        {asOf?.includes("T") && <Played asOf={asOf} main={main} />}
      </div>
      {conflict && <ConflictDialog />}
      <main ref={main}>
        <Outlet />
      </main>
      {showPeek && (
        <aside className="peek" aria-label="Peek">
          <Peek symbol={peeked} asOf={asOf} figure={looked?.figure} until={looked?.until ?? null} />
        </aside>
      )}
      <Trips listRef={trips} />
      <TrayBar listRef={trayList} onLists={() => setLists(true)} onPlans={() => setPlans(true)} />
      {plans && <Plans asOf={asOf} onHide={() => setPlans(false)} />}
      {lists && <Lists onHide={() => setLists(false)} />}
      {keysShown && <Keys show onHide={() => setKeysShown(false)} />}
    </div>
  );
}

/** The groups of the work; the pages of the one that one is in are spelled out. */
function Pages({ at, to }: { at: string; to: (page: Page) => string }) {
  const link = (page: Page) => (
    <NavLink
      key={page.path}
      to={to(page)}
      className={isOn(page, at) ? "active" : ""}
      title={`${page.asks} (${page.press})`}
    >
      {page.title}
    </NavLink>
  );
  return (
    <nav aria-label="Pages">
      {GROUPS.map(({ title, pages: [first, ...others] }) => {
        if (!first) return null;
        const here = [first, ...others].some((page) => isOn(page, at));
        return (
          <span key={title} className={here ? "nav-here" : undefined}>
            <NavLink
              to={to(first)}
              className="nav-group"
              title={[first, ...others].map((page) => page.title).join(", ")}
            >
              {title}
            </NavLink>
            {here && [first, ...others].map(link)}
          </span>
        );
      })}
      {link(HANDBOOK)}
      {link(DATA)}
    </nav>
  );
}

function AsOf({ past }: { past: string | null }) {
  const market = useMarket().data;
  if (!market) return <span className="asof" />;
  if (past !== null && (past.includes("T") || past < (market.sessions.at(-1) ?? "")))
    return (
      <span className="asof past" title={`The newest session is ${date(market.sessions.at(-1) ?? "", true)}`}>
        {past.includes("T") ? "played again" : "a past session"}: <b>{date(past, true)}</b>
      </span>
    );
  return (
    <span className="asof" title={`Data version ${market.version}, ${market.names} names, from the ${market.source}`}>
      <Untold />
      as of <b>{instant(market.as_of)}</b>
      <span className="from"> {city(market.zone)}</span>
    </span>
  );
}

/** What is shown may be behind: this window was told of moments, and is not any more. */
function Untold() {
  return useTold() === false ? <span className="untold">catching up · </span> : null;
}

/** The market that is open, and the others. */
function MarketChoice() {
  const answer = useMarkets().data;
  const here = marketHere() ?? answer?.market;
  if (!here) return null;
  const names = answer?.markets.map((market) => market.name) ?? [here];
  return (
    <select
      className="market-choice"
      aria-label="Market"
      title="The market that is open; tray, lines, plans and baskets are of one market"
      value={here}
      onChange={(event) => void chooseMarket(event.target.value)}
    >
      {(names.includes(here) ? names : [here, ...names]).map((name) => (
        <option key={name} value={name}>
          {name}
        </option>
      ))}
    </select>
  );
}

/** One line while a new market is still being made: what is not there yet, on every page. */
function Coming() {
  const coming = useMarket().data?.coming;
  if (!coming) return null;
  return (
    <div className="notice" role="status">
      The market is being filled ({coming.percent} %). Not there yet: {coming.what}.{" "}
      <progress aria-label="How much of it is there" value={coming.percent} max={100} />
    </div>
  );
}

/** One line while the server or the database is away, and when a change of the tray was refused. */
function Away() {
  const client = useQueryClient();
  // Counts the requests under way, so that this line is written again when one begins or ends.
  useIsFetching();
  const changes = useMutationState({
    filters: { mutationKey: ["tray"] },
    select: (mutation) => ({ at: mutation.state.submittedAt, ...mutation.state }),
  });
  const [dismissed, setDismissed] = useState(0);
  const [, tick] = useState(0);
  useEffect(() => {
    const timer = setInterval(() => tick((n) => n + 1), 1000);
    return () => clearInterval(timer);
  }, []);

  const waiting = changes.filter((state) => state.status === "pending" && state.failureReason);
  const last = changes.at(-1);
  const refused = last?.status === "error" && last.at > dismissed ? last.error : null;
  const failing = client
    .getQueryCache()
    .findAll({ type: "active" })
    .map((query) => query.state.fetchFailureReason)
    .find((reason) => reason instanceof ApiError && reason.passing && reason.problem.type !== "market_empty");
  const away = waiting[0]?.failureReason ?? failing;
  if (away)
    return (
      <div className="notice" role="alert">
        {away.message}
        {waiting.length > 0 && " Your change of the tray is kept and will be sent."}
      </div>
    );
  if (refused)
    return (
      <div className="notice" role="alert">
        {refused.message}{" "}
        <button type="button" className="quiet" onClick={() => setDismissed(last?.at ?? 0)}>
          dismiss
        </button>
      </div>
    );
  return null;
}
