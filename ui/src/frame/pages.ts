/** A page of the frame: what it is called, its address, the key that leads there, and the question it answers. */
export type Page = { title: string; path: string; press: string; asks: string };
export type Group = { title: string; pages: Page[] };

/** The pages by what one does there, in the order of the work. */
export const GROUPS: Group[] = [
  {
    title: "Find",
    pages: [
      { title: "Screen", path: "/screen", press: "s", asks: "which names meet my rules" },
      { title: "Lineup", path: "/lineup", press: "n", asks: "whose volatility is out of line with the others" },
    ],
  },
  {
    title: "Read",
    pages: [
      { title: "Dossier", path: "/dossier", press: "d", asks: "everything about one name" },
      { title: "Tape", path: "/tape", press: "b", asks: "which option trades are unusual for their name" },
      {
        title: "Off-exchange",
        path: "/off-exchange",
        press: "x",
        asks: "where the big prints lie, and price against them",
      },
    ],
  },
  {
    title: "Plan",
    pages: [
      { title: "Structures", path: "/structures", press: "k", asks: "which option structures pay best for their risk" },
    ],
  },
  {
    title: "Watch",
    pages: [
      {
        title: "Tripwires",
        path: "/tripwires",
        press: "j",
        asks: "when a name that I parked does the thing that I am waiting for",
      },
    ],
  },
];

export const DATA: Page = { title: "Data", path: "/data", press: "q", asks: "what is loaded, from whom, how old" };

export const HANDBOOK: Page = { title: "Handbook", path: "/handbook", press: "h", asks: "what every number means" };

export const PAGES: Page[] = [...GROUPS.flatMap((group) => group.pages), HANDBOOK, DATA];

/** Whether an address is one of a page; one structure belongs to those it was found among. */
export const isOn = (page: Page, path: string): boolean =>
  path === page.path ||
  path.startsWith(`${page.path}/`) ||
  (page.path === "/structures" && path.startsWith("/structure/"));
