import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { createRootRoute, createRoute, createRouter, redirect, RouterProvider } from "@tanstack/react-router";
import { lazy, StrictMode, Suspense, type ComponentType } from "react";
import { createRoot } from "react-dom/client";
import { RunPage } from "./pages/RunPage";
import { ToMend } from "./pages/ToMend";
import { Runs } from "./pages/Runs";
import { Workflows } from "./pages/Workflows";
import { Refusal } from "./api/client";
import { Shell } from "./shell/Shell";
import { setTheme, theme } from "./shell/theme";
import { Trouble, Waiting } from "./ui/parts";
import "./nonce";
import "sonner/dist/styles.css";
import "./styles.css";

setTheme(theme());

// The editor is large; it is loaded with the page that needs it.
const Workbench = later("Opening the workbench", () =>
  import("./pages/Workbench").then((m) => ({ default: m.Workbench })),
);
const Connections = later("Opening the connections", () =>
  import("./pages/Connections").then((m) => ({ default: m.Connections })),
);
const Connectors = later("Opening the connectors", () =>
  import("./pages/Connectors").then((m) => ({ default: m.Connectors })),
);
const Schedule = later("Opening the schedule", () =>
  import("./pages/Schedule").then((m) => ({ default: m.Schedule })),
);
const Lists = later("Opening the lists", () => import("./pages/Lists").then((m) => ({ default: m.Lists })));
const GoLive = later("Looking at what is ahead", () =>
  import("./pages/GoLive").then((m) => ({ default: m.GoLive })),
);
const Start = later("Opening", () => import("./pages/Start").then((m) => ({ default: m.Start })));

function later(what: string, load: () => Promise<{ default: ComponentType }>) {
  const Page = lazy(load);
  return () => (
    <Suspense fallback={<Waiting what={what} />}>
      <Page />
    </Suspense>
  );
}

/** What of an address's query a page reads. */
const text =
  (...names: string[]) =>
  (search: Record<string, unknown>): Record<string, string> =>
    Object.fromEntries(
      names.flatMap((n) =>
        typeof search[n] === "string" || typeof search[n] === "number" ? [[n, String(search[n])]] : [],
      ),
    );

const root = createRootRoute({ component: Shell });
const index = createRoute({
  getParentRoute: () => root,
  path: "/",
  beforeLoad: () => {
    throw redirect({ to: "/workflows" });
  },
});
const workflows = createRoute({ getParentRoute: () => root, path: "/workflows", component: Workflows });
const workbench = createRoute({
  getParentRoute: () => root,
  path: "/workflows/$workflow",
  component: Workbench,
  validateSearch: text("line", "use"),
});
const live = createRoute({
  getParentRoute: () => root,
  path: "/workflows/$workflow/live",
  component: GoLive,
});
const runs = createRoute({
  getParentRoute: () => root,
  path: "/runs",
  component: Runs,
  validateSearch: text("workflow", "state", "fate", "from", "to"),
});
const run = createRoute({
  getParentRoute: () => root,
  path: "/runs/$run",
  component: RunPage,
  validateSearch: text("item", "step", "beside"),
});
const mend = createRoute({ getParentRoute: () => root, path: "/mend", component: ToMend });
const schedule = createRoute({ getParentRoute: () => root, path: "/schedule", component: Schedule });
const lists = createRoute({
  getParentRoute: () => root,
  path: "/lists",
  component: Lists,
  validateSearch: text("list"),
});
const connections = createRoute({
  getParentRoute: () => root,
  path: "/connections",
  component: Connections,
  validateSearch: text("connection", "trouble"),
});
const connectors = createRoute({
  getParentRoute: () => root,
  path: "/connectors",
  component: Connectors,
  validateSearch: text("connector", "try"),
});
const start = createRoute({
  getParentRoute: () => root,
  path: "/start",
  component: Start,
  validateSearch: text("connector", "connection"),
});

const router = createRouter({
  routeTree: root.addChildren([
    index,
    workflows,
    workbench,
    live,
    runs,
    run,
    mend,
    schedule,
    lists,
    connections,
    connectors,
    start,
  ]),
  defaultErrorComponent: ({ error }) => (
    <div className="p-5">
      <Trouble error={error} />
      <button
        className="btn"
        onClick={() => {
          location.reload();
        }}
      >
        Load the page again
      </button>
    </div>
  ),
  defaultNotFoundComponent: () => <div className="p-5 text-second">There is nothing at this address.</div>,
});

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}

const client = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (n, error) => n < 2 && !(error instanceof Refusal && error.status >= 400 && error.status < 500),
      staleTime: 2000,
    },
  },
});

const element = document.getElementById("root");
if (element) {
  createRoot(element).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
