import { Link, Outlet, useNavigate, useRouterState } from "@tanstack/react-router";
import { Moon, Sun } from "lucide-react";
import { useEffect, useState } from "react";
import { toast, Toaster } from "sonner";
import { useToAllow } from "../api/connections";
import { mayAllow, useMe, useSignOut } from "../api/session";
import { useGroups } from "../api/mending";
import { SignIn } from "../pages/SignIn";
import { Waiting } from "../ui/parts";
import { Find } from "./Find";
import { setTheme, theme } from "./theme";

const places = [
  { to: "/workflows", name: "Workflows" },
  { to: "/runs", name: "Runs" },
  { to: "/mend", name: "To mend" },
  { to: "/schedule", name: "Schedule" },
  { to: "/lists", name: "Lists" },
  { to: "/connections", name: "Connections" },
  { to: "/connectors", name: "Connectors" },
] as const;

export function Shell() {
  const me = useMe();
  const path = useRouterState({ select: (s) => s.location.pathname });
  const [finding, setFinding] = useState(false);
  const [dark, setDark] = useState(theme() === "dark");
  const waiting = useGroups(me.data?.items === true).data?.total ?? 0;
  const toAllow = useToAllow(mayAllow(me.data?.role));
  const signOut = useSignOut();
  const navigate = useNavigate();
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && e.key === "k") {
        e.preventDefault();
        setFinding(true);
      }
    };
    window.addEventListener("keydown", key);
    return () => {
      window.removeEventListener("keydown", key);
    };
  }, []);
  if (me.isPending) return <Waiting what="Opening" />;
  if (!me.data) return <SignIn />;
  const leave = async () => {
    try {
      await signOut();
    } catch (e) {
      toast.error(`You are still signed in. ${e instanceof Error ? e.message : ""}`);
      return;
    }
    await navigate({ to: "/workflows" });
  };
  return (
    <div className="flex h-screen flex-col">
      <header className="flex h-[44px] shrink-0 items-center gap-1 border-b border-rule bg-sheet px-4">
        <img src="/trellis.svg" alt="" className="mr-1 h-5 w-5" />
        <span className="mr-5 font-semibold">Young Trellis</span>
        <nav className="flex gap-1" aria-label="Pages">
          {places
            .filter((p) => p.to !== "/mend" || me.data?.items)
            .map((p) => (
              <Link
                key={p.to}
                to={p.to}
                className={`relative rounded-lg px-2.5 py-1 ${path.startsWith(p.to) ? "bg-tint font-semibold text-leafink" : "text-second hover:text-ink"}`}
              >
                {p.name}
                {p.to === "/mend" && <Waits n={waiting} of="Groups to mend" tone="text-rust" />}
                {p.to === "/connections" && <Waits n={toAllow} of="Addresses to allow" tone="text-amber" />}
              </Link>
            ))}
        </nav>
        <div className="ml-auto flex items-center gap-2">
          <button
            className="btn"
            onClick={() => {
              setFinding(true);
            }}
          >
            Find <kbd className="rounded border border-rule px-1 font-mono text-xs text-second">Ctrl K</kbd>
          </button>
          <button
            className="btn btn-plain px-2"
            aria-label={dark ? "Light colours" : "Dark colours"}
            onClick={() => {
              setTheme(dark ? "light" : "dark");
              setDark(!dark);
            }}
          >
            {dark ? <Sun size={15} /> : <Moon size={15} />}
          </button>
          <span className="text-second" title={`${me.data.name}, ${me.data.role}`}>
            {me.data.workspace}
          </span>
          <button className="btn btn-plain px-1" onClick={() => void leave()}>
            Sign out
          </button>
        </div>
      </header>
      <main className="min-h-0 flex-1 overflow-auto">
        <Outlet />
      </main>
      <Find open={finding} onOpen={setFinding} />
      <Toaster theme={dark ? "dark" : "light"} position="bottom-right" />
    </div>
  );
}

/** How much waits behind a page. It stands above the line, so that nothing moves when it comes. */
function Waits({ n, of, tone }: { n: number; of: string; tone: string }) {
  if (n === 0) return null;
  return (
    <b
      className={`absolute top-0 left-[calc(100%-8px)] text-[11px] leading-none font-semibold ${tone}`}
      title={`${of}: ${n.toLocaleString("en")}`}
    >
      {n > 99 ? "99+" : n}
    </b>
  );
}
