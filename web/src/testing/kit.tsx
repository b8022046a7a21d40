import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import {
  createMemoryHistory,
  createRootRoute,
  createRoute,
  createRouter,
  Outlet,
  RouterProvider,
} from "@tanstack/react-router";
import { cleanup, render } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeAll, vi } from "vitest";

// Addresses are those of a page; the client takes its Request when it is loaded, so this file is loaded before it.
const Plain = globalThis.Request;
globalThis.Request = class extends Plain {
  constructor(to: RequestInfo | URL, init?: RequestInit) {
    super(typeof to === "string" && to.startsWith("/") ? `http://127.0.0.1${to}` : to, init);
  }
};

/** A call that the page made. */
export interface Call {
  method: string;
  path: string; // below /api/v1, with its query
  body: unknown;
}

type Reply = unknown;

/** What the service says no with. */
export class No {
  constructor(
    readonly status: number,
    readonly problem: { type: string; title: string; fields?: { field: string; message: string }[] },
  ) {}
}

/**
 * A service that answers by method and path, as "GET /connections"; a function is given the call. What is not
 * among its answers is answered with 404. The calls are kept in their order.
 */
export function serve(answers: Record<string, Reply | ((c: Call) => Reply)>): Call[] {
  const calls: Call[] = [];
  vi.stubGlobal("fetch", async (r: Request) => {
    const url = new URL(r.url);
    const path = url.pathname.replace(/^.*\/api\/v1/, "");
    const text = await r.text();
    const call = {
      method: r.method,
      path: path + url.search,
      body: text === "" ? undefined : JSON.parse(text),
    };
    calls.push(call);
    const given = answers[`${r.method} ${path}`];
    const reply = typeof given === "function" ? await (given as (c: Call) => Reply)(call) : given;
    const headers = { "content-type": "application/json" };
    if (reply instanceof No)
      return new Response(JSON.stringify(reply.problem), { status: reply.status, headers });
    if (reply === undefined)
      return new Response('{"type": "not_found", "title": "There is nothing here."}', {
        status: 404,
        headers,
      });
    return new Response(JSON.stringify(reply), { status: 200, headers });
  });
  return calls;
}

/** Whether an address is one of a path, part by part. */
function isAt(path: string, at: string): boolean {
  if (path === "$") return true;
  const parts = path.split("/");
  const given = at.replace(/\?.*/, "").split("/");
  return (
    !path.includes("$") ||
    (parts.length === given.length && parts.every((p, i) => p.startsWith("$") || p === given[i]))
  );
}

/** Shows a part of the page as it stands in it: with a client and with addresses. */
export async function show(ui: ReactNode, at = "/") {
  const client = new QueryClient({
    defaultOptions: { queries: { retry: false }, mutations: { retry: false } },
  });
  const root = createRootRoute({ component: Outlet });
  const routes = ["/", "/workflows/$workflow", "/workflows/$workflow/live", "/runs/$run", "$"].map((path) =>
    // Another page than the one that is shown is empty: where it is gone to is asked of the address.
    createRoute({ getParentRoute: () => root, path, component: () => (isAt(path, at) ? ui : null) }),
  );
  const history = createMemoryHistory({ initialEntries: [at] });
  const router = createRouter({ routeTree: root.addChildren(routes), history });
  await router.load();
  render(
    <QueryClientProvider client={client}>
      <RouterProvider router={router as never} />
    </QueryClientProvider>,
  );
  return { client, where: () => history.location.pathname + history.location.search };
}

/** What of a browser the parts of the page ask for and jsdom has not. */
export function asBrowser() {
  beforeAll(() => {
    globalThis.ResizeObserver = class {
      observe() {}
      unobserve() {}
      disconnect() {}
    };
    Element.prototype.scrollIntoView = () => undefined;
    window.scrollTo = () => undefined;
    // Lists that draw only what is in sight need some room to draw in.
    Object.defineProperty(HTMLElement.prototype, "offsetHeight", { configurable: true, value: 600 });
    Object.defineProperty(HTMLElement.prototype, "offsetWidth", { configurable: true, value: 900 });
    window.matchMedia = () =>
      ({
        matches: false,
        addEventListener: () => undefined,
        removeEventListener: () => undefined,
      }) as unknown as MediaQueryList;
    globalThis.CSS ??= { escape: (s: string) => s.replace(/[^\w-]/g, "\\$&") } as typeof CSS;
    Element.prototype.hasPointerCapture = () => false;
    Range.prototype.getClientRects = () => [] as unknown as DOMRectList;
    Range.prototype.getBoundingClientRect = () => new DOMRect();
  });
  afterEach(() => {
    cleanup();
    vi.unstubAllGlobals();
  });
}
