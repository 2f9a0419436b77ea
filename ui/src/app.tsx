import { lazy, Suspense } from "react";
import { createBrowserRouter, Navigate, RouterProvider } from "react-router";
import { ScreenPage } from "@/features/screen/ScreenPage";
import { Frame } from "@/frame/Frame";
import { SubjectProvider } from "@/frame/subject";
import { ThemeProvider } from "@/frame/theme";
import { inMarket } from "@/shared/market";
import { Link } from "@/shared/route";
import { Empty, Failed, Loading } from "@/shared/ui/States";

// Charts come with the first Dossier, not with the first page.
const DossierPage = lazy(() => import("@/features/dossier/DossierPage"));

const LineupPage = lazy(() => import("@/features/lineup/LineupPage"));

const TapePage = lazy(() => import("@/features/tape/TapePage"));

const OffExchangePage = lazy(() => import("@/features/offexchange/OffExchangePage"));

const StructuresPage = lazy(() => import("@/features/structures/StructuresPage"));

const OnePage = lazy(() => import("@/features/structures/OnePage"));

const TripwiresPage = lazy(() => import("@/features/tripwires/TripwiresPage"));

const DataPage = lazy(() => import("@/features/data/DataPage"));

const HandbookPage = lazy(() => import("@/features/handbook/HandbookPage"));

function PickName() {
  return (
    <Empty>
      <p>Press / and type a symbol or a company, or pick a name on the Screen.</p>
    </Empty>
  );
}

function NoPage() {
  return (
    <Failed error={new Error("There is no such page.")}>
      <p>
        <Link to="/screen">To the Screen</Link>
      </p>
    </Failed>
  );
}

const router = createBrowserRouter([
  {
    element: <Frame />,
    children: [
      { path: "/", element: <Navigate to={inMarket("/screen")} replace /> },
      { path: "/screen", element: <ScreenPage /> },
      { path: "/dossier", element: <PickName /> },
      {
        path: "/dossier/:symbol",
        element: (
          <Suspense fallback={<Loading what="the Dossier" />}>
            <DossierPage />
          </Suspense>
        ),
      },
      {
        path: "/tape",
        element: (
          <Suspense fallback={<Loading what="the tape" />}>
            <TapePage />
          </Suspense>
        ),
      },
      {
        path: "/off-exchange",
        element: (
          <Suspense fallback={<Loading what="the prints" />}>
            <OffExchangePage />
          </Suspense>
        ),
      },
      {
        path: "/structures",
        element: (
          <Suspense fallback={<Loading what="structures" />}>
            <StructuresPage />
          </Suspense>
        ),
      },
      {
        path: "/structure/:symbol",
        element: (
          <Suspense fallback={<Loading what="the structure" />}>
            <OnePage />
          </Suspense>
        ),
      },
      {
        path: "/lineup",
        element: (
          <Suspense fallback={<Loading what="the Lineup" />}>
            <LineupPage />
          </Suspense>
        ),
      },
      {
        path: "/tripwires",
        element: (
          <Suspense fallback={<Loading what="your tripwires" />}>
            <TripwiresPage />
          </Suspense>
        ),
      },
      {
        path: "/data",
        element: (
          <Suspense fallback={<Loading what="the markets" />}>
            <DataPage />
          </Suspense>
        ),
      },
      ...["/handbook", "/handbook/:entry"].map((path) => ({
        path,
        element: (
          <Suspense fallback={<Loading what="the Handbook" />}>
            <HandbookPage />
          </Suspense>
        ),
      })),
      { path: "*", element: <NoPage /> },
    ],
  },
]);

export function App() {
  return (
    <ThemeProvider>
      <SubjectProvider>
        {/* As a transition, a box whose state is in the address would show unchecked again until the page was rendered. */}
        <RouterProvider router={router} useTransitions={false} />
      </SubjectProvider>
    </ThemeProvider>
  );
}
