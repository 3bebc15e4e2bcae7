import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { sayError } from "../../store/notices";
import { useOverlay } from "../../store/overlay";
import { client, ok } from "../api/client";
import { useSession } from "../api/session";
import { switchTheme } from "../theme";
import { Command } from "./Command";
import { Mark } from "./Mark";
import { VeilKey } from "./VeilKey";

function Person() {
  const queries = useQueryClient();
  const me = useQuery({ queryKey: ["me"], queryFn: () => ok(client.GET("/api/me")), staleTime: 60_000 });
  const person = me.data?.person;
  async function out() {
    try {
      const me = await ok(client.POST("/api/sign-out"));
      useSession.setState({ person: null, ended: false });
      queries.setQueryData(["me"], me);
      queries.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
    } catch (error) {
      sayError(error);
    }
  }
  if (!person) return null;
  return (
    <details className="dropdown dropdown-end">
      <summary
        className="grid h-8 w-8 cursor-pointer list-none place-items-center rounded-full bg-primary text-xs font-bold text-primary-content"
        aria-label={`${person.name}: menu`}
      >
        {person.initials}
      </summary>
      <ul className="menu dropdown-content line z-40 mt-2 w-56 rounded-box border bg-base-100 shadow-lg">
        <li className="dim px-3 py-1">
          {person.name}, {person.lead ? "lead" : "technician"}
        </li>
        <li>
          <button type="button" onClick={switchTheme}>
            Daylight or evening
          </button>
        </li>
        <li>
          <button type="button" onClick={out}>
            Sign out
          </button>
        </li>
      </ul>
    </details>
  );
}

/** Said before it is too late: results need room. */
function DiskLow() {
  const health = useQuery({
    queryKey: ["health"],
    queryFn: () => ok(client.GET("/api/health")),
    refetchInterval: 60_000,
    retry: false,
  });
  if (!health.data?.disk_low) return null;
  const free = `${(health.data.disk_free_mb / 1000).toFixed(1)} GB`;
  return (
    <span
      role="status"
      title="The disk of the server is filling up. Close and delete what has been kept long enough, or make room."
      className="shrink-0 rounded-full bg-[var(--look-ground)] px-3 py-1 font-semibold text-warning"
    >
      ▲ Disk: {free} left
    </span>
  );
}

const ROOM =
  "rounded-lg px-3 py-1.5 font-semibold aria-[current=page]:bg-secondary aria-[current=page]:text-secondary-content";

/** The bar on top of every room. children : what the room puts into it. */
export function TopBar({ children, rooms = true }: { children?: ReactNode; rooms?: boolean }) {
  const navigate = useNavigate();
  const openBox = useOverlay((s) => s.open);
  return (
    <header className="line flex h-12 shrink-0 items-center gap-3 border-b bg-base-100 px-4">
      <Link to="/" className="flex items-center gap-2 font-bold" title="To the rack (Alt+R)">
        <Mark size={26} />
        Bite Bench
      </Link>
      {rooms && (
        <nav className="ml-2 flex gap-1">
          <NavLink to="/" end className={ROOM}>
            Rack
          </NavLink>
          <NavLink to="/plates" className={ROOM}>
            Plate room
          </NavLink>
          <NavLink to="/house" className={ROOM}>
            House settings
          </NavLink>
        </nav>
      )}
      <div className="flex min-w-0 flex-1 items-center gap-3">{children}</div>
      <button
        type="button"
        onClick={() => openBox("commands")}
        className="line dim flex h-8 w-48 shrink-0 items-center justify-between rounded-full border px-3"
        title="Find a command (/)"
      >
        Do anything … <kbd className="key">/</kbd>
      </button>
      <DiskLow />
      <VeilKey />
      <Person />
      <Command id="rack" title="Go to the rack" keys="alt+r" group="Rooms" run={() => navigate("/")} />
      <Command id="plates" title="Plate room" keys="alt+p" group="Rooms" run={() => navigate("/plates")} />
      <Command id="house" title="House settings" keys="alt+h" group="Rooms" run={() => navigate("/house")} />
      <Command id="theme" title="Daylight or evening" keys="shift+d" group="Rooms" run={switchTheme} />
    </header>
  );
}
