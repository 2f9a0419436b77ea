import { useIsFetching, useMutationState, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { NavLink, Outlet, useLocation, useNavigate } from "react-router";
import { lastAddress } from "@/shared/address";
import { ApiError } from "@/shared/api/client";
import { useChangeTray, useMarket, useToggleTray, useTray } from "@/shared/api/queries";
import { Mark } from "@/shared/chart/Mark";
import { instant } from "@/shared/format";
import { useKeys } from "@/shared/keyboard";
import { ConflictDialog } from "./ConflictDialog";
import { GoTo } from "./GoTo";
import { Keys } from "./Keys";
import { Lists } from "./Lists";
import { Peek } from "./Peek";
import { useSubject } from "./subject";
import { TrayBar } from "./TrayBar";
import { useTheme } from "./theme";

/** What stays around every page: top bar, Peek, tray, and the keys. */
export function Frame() {
  const { subject, glance } = useSubject();
  const { theme, toggle: toggleTheme } = useTheme();
  const [peekOpen, setPeekOpen] = useState(true);
  const [keysShown, setKeysShown] = useState(false);
  const [lists, setLists] = useState(false);
  const search = useRef<HTMLInputElement>(null);
  const trayList = useRef<HTMLUListElement>(null);
  const navigate = useNavigate();
  const location = useLocation();
  const tray = useTray();
  const change = useChangeTray();
  const { toggle } = useToggleTray();
  const lastScreen = lastAddress("/screen");

  const onDossier = location.pathname.startsWith("/dossier/");
  const onScreen = location.pathname === "/screen";
  // A Dossier says it all about its own name: the Peek is for another one.
  const peeked = glance ?? (onDossier ? null : (subject?.symbol ?? null));
  const showPeek = peekOpen && (peeked !== null || onScreen);

  useKeys({
    "/": () => search.current?.focus(),
    "?": () => setKeysShown(true),
    s: () => navigate(lastAddress("/screen")),
    n: () => navigate(lastAddress("/lineup")),
    d: () => navigate(subject ? `/dossier/${subject.symbol}` : "/dossier"),
    p: () => setPeekOpen(!peekOpen),
    m: toggleTheme,
    h: () => {
      // Of what has focus: a column of the results, a rule, a number with a definition.
      const metric = document.activeElement?.closest<HTMLElement>("[data-metric]")?.dataset.metric;
      navigate(metric ? `/handbook/${metric}` : lastAddress("/handbook"));
    },
    l: () => setLists(true),
    y: () => trayList.current?.querySelector("button")?.focus(),
    u: () => tray.data?.undo && change.mutate({ kind: "undo", version: tray.data.version }),
    t: () => subject && toggle(subject.symbol, subject.why),
  });

  return (
    <div className={showPeek ? "frame with-peek" : "frame"}>
      <header className="topbar">
        <NavLink to={lastScreen} className="brand" aria-label="Flinch: to the Screen">
          <Mark className="brand-mark" /> Flinch
        </NavLink>
        <nav aria-label="Pages">
          <span className="nav-group">Find</span>
          <NavLink to={lastScreen} className={onScreen ? "active" : ""}>
            Screen
          </NavLink>
          <NavLink to={lastAddress("/lineup")}>Lineup</NavLink>
          <span className="nav-group">Read</span>
          <NavLink to={subject ? `/dossier/${subject.symbol}` : "/dossier"} className={onDossier ? "active" : ""}>
            Dossier
          </NavLink>
          <NavLink to={lastAddress("/handbook")}>Handbook</NavLink>
        </nav>
        <GoTo inputRef={search} />
        <AsOf />
        <button type="button" className="quiet" onClick={toggleTheme} title="Light or dim (m)">
          {theme === "dim" ? "light" : "dim"}
        </button>
        <button type="button" className="quiet" onClick={() => setKeysShown(true)} aria-label="Keys">
          ?
        </button>
      </header>
      <Away />
      <ConflictDialog />
      <main>
        <Outlet />
      </main>
      {showPeek && (
        <aside className="peek" aria-label="Peek">
          <Peek symbol={peeked} asOf={glance ? null : (subject?.asOf ?? null)} />
        </aside>
      )}
      <TrayBar listRef={trayList} onLists={() => setLists(true)} />
      {lists && <Lists onHide={() => setLists(false)} />}
      <Keys show={keysShown} onHide={() => setKeysShown(false)} />
    </div>
  );
}

function AsOf() {
  const market = useMarket().data;
  if (!market) return <span className="asof" />;
  return (
    <span className="asof" title={`Data version ${market.version}, ${market.names} names, from the ${market.source}`}>
      as of <b>{instant(market.as_of)}</b> New York · {market.source}
    </span>
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
    .find((reason) => reason instanceof ApiError && reason.passing);
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
