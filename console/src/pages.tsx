import { lazy, type ComponentType } from "react";
import { ActivityPage } from "./activity/ActivityPage";
import { DoorsPage } from "./doors/DoorsPage";
import { EventsPage } from "./events/EventsPage";
import { KeyringsPage } from "./keyrings/KeyringsPage";
import { LooksPage } from "./looks/LooksPage";
import { MatrixPage } from "./matrix/MatrixPage";
import { MessagesPage } from "./messages/MessagesPage";
import { PassesPage } from "./passes/PassesPage";
import { PatrolPage } from "./patrol/PatrolPage";
import { PeoplePage } from "./people/PeoplePage";
import { SessionsPage } from "./sessions/SessionsPage";
import { SharedPage } from "./shared/SharedPage";
import { SitePage } from "./site/SitePage";
import { TryPage } from "./try/TryPage";

// The editor and the chart are large; they are fetched when their page is opened.
const PolicyPage = lazy(() => import("./policy/PolicyPage").then((m) => ({ default: m.PolicyPage })));
const MembersPage = lazy(() => import("./members/MembersPage").then((m) => ({ default: m.MembersPage })));
const TodayPage = lazy(() => import("./today/TodayPage").then((m) => ({ default: m.TodayPage })));

// The pages of the console: the routes and the menu are made of this.
export const groups: { label: string; pages: { to: string; label: string; page: ComponentType }[] }[] = [
  {
    label: "Guard",
    pages: [
      { to: "/", label: "Today", page: TodayPage },
      { to: "/site", label: "Site", page: SitePage },
      { to: "/doors", label: "Doors", page: DoorsPage },
      { to: "/matrix", label: "Matrix", page: MatrixPage },
      { to: "/policy", label: "Policy", page: PolicyPage },
      { to: "/try", label: "Try", page: TryPage },
      { to: "/patrol", label: "Patrol", page: PatrolPage },
    ],
  },
  {
    label: "People",
    pages: [
      { to: "/people", label: "People", page: PeoplePage },
      { to: "/members", label: "Members", page: MembersPage },
      { to: "/keyrings", label: "Keyrings", page: KeyringsPage },
      { to: "/shared", label: "Shared passwords", page: SharedPage },
      { to: "/passes", label: "Passes", page: PassesPage },
      { to: "/sessions", label: "Sessions", page: SessionsPage },
      { to: "/looks", label: "Looks", page: LooksPage },
    ],
  },
  {
    label: "Record",
    pages: [
      { to: "/activity", label: "Activity", page: ActivityPage },
      { to: "/events", label: "Events", page: EventsPage },
      { to: "/messages", label: "Messages", page: MessagesPage },
    ],
  },
];

export const pages = groups.flatMap((g) => g.pages);
