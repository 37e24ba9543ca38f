import "./shell.css";

import { useQueryClient } from "@tanstack/react-query";
import {
  CircleHelp,
  CircleStop,
  Cpu,
  Download,
  LayoutList,
  ListTree,
  Moon,
  Redo2,
  Route as RouteIcon,
  Search,
  Undo2,
} from "lucide-react";
import { useCallback, useEffect, useState } from "react";
import { Link, NavLink, Outlet, useNavigate } from "react-router";

import { api } from "../api/client";
import { usePlan } from "../api/plan";
import { useExport } from "../api/save";
import { toggleMode } from "../theme";
import { Finder } from "./Finder";
import { KeyHelp } from "./KeyHelp";
import { Logo } from "./Logo";
import { VerdictColumn } from "./VerdictColumn";

/** Whether a key press is meant for a field that takes text. */
function isTyping(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName))
  );
}

export function Shell({ user }: { user: string }) {
  const { id, snapshot, people, connected, told, tell, undo, redo, busy } = usePlan();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [finding, setFinding] = useState(false);
  const [help, setHelp] = useState(false);
  const logOut = useCallback(() => {
    void api.DELETE("/api/session").then(() => queries.resetQueries({ queryKey: ["session"] }));
  }, [queries]);

  const saving = useExport(useCallback((why: string) => tell(why, true), [tell]));
  const { start } = saving;
  const exportPlan = useCallback(() => start(id), [start, id]);

  useEffect(() => {
    const onKey = (event: KeyboardEvent): void => {
      const command = event.ctrlKey || event.metaKey;
      if (command && event.key.toLowerCase() === "k") {
        event.preventDefault();
        setFinding(true);
      } else if (isTyping(event.target) || finding || help) {
        return;
      } else if (command && event.key.toLowerCase() === "z") {
        event.preventDefault();
        if (event.shiftKey) redo();
        else undo();
      } else if (command && event.key.toLowerCase() === "y") {
        event.preventDefault();
        redo();
      } else if (!command && !event.altKey && event.key === "?") {
        setHelp(true);
      } else if (!command && !event.altKey && ["1", "2", "3", "4"].includes(event.key)) {
        void navigate(`/plans/${id}/${["decks", "landing", "trace", "bench"][Number(event.key) - 1]}`);
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [finding, help, id, navigate, redo, undo]);

  const { undo: back, redo: forth } = snapshot.steps;
  return (
    <div className="shell">
      <a className="skip" href="#view">
        To the view
      </a>
      <header className="topbar">
        <Link to="/plans" className="brand" title="To the plans">
          <Logo /> <span>Apt Wire</span>
        </Link>
        <h1 className="plan-name" title={snapshot.name}>
          {snapshot.name}
        </h1>
        <span className="revision mono">revision {snapshot.revision}</span>
        {!connected && (
          <span className="offline" role="status">
            connection lost, trying again
          </span>
        )}
        <button type="button" className="finder-button" onClick={() => setFinding(true)}>
          <Search size={14} aria-hidden />{" "}
          <span className="finder-text">Find a host, guest, MAC, address, VID, command</span>
          <kbd>Ctrl K</kbd>
        </button>
        <button
          type="button"
          className="bar-button"
          disabled={!back || busy}
          onClick={undo}
          title={back ? `Undo: ${back.message} (Ctrl Z)` : "Nothing of yours to undo"}
        >
          <Undo2 size={15} aria-hidden /> Undo
        </button>
        <button
          type="button"
          className="bar-button"
          disabled={!forth || busy}
          onClick={redo}
          title={forth ? `Redo: ${forth.message} (Ctrl Shift Z)` : "Nothing to redo"}
        >
          <Redo2 size={15} aria-hidden /> Redo
        </button>
        <span className="spring" />
        <ul className="people" aria-label="People in this plan">
          {[user, ...people.filter((p) => p !== user)].map((name) => (
            <li key={name} title={name === user ? `${name} (you)` : name} className={name === user ? "you" : ""}>
              {name.slice(0, 2)}
              <span className="visually-hidden">{name}</span>
            </li>
          ))}
        </ul>
        <button type="button" className="bar-button" onClick={logOut}>
          Log out
        </button>
      </header>
      <nav className="rail" aria-label="Views">
        <RailLink to={`/plans/${id}/decks`} label="Decks" hint="1" icon={<ListTree size={20} aria-hidden />} />
        <RailLink to={`/plans/${id}/landing`} label="Landing" hint="2" icon={<LayoutList size={20} aria-hidden />} />
        <RailLink to={`/plans/${id}/trace`} label="Trace" hint="3" icon={<RouteIcon size={20} aria-hidden />} />
        <RailLink to={`/plans/${id}/bench`} label="Bench" hint="4" icon={<Cpu size={20} aria-hidden />} />
        <span className="spring" />
        {saving.records === null ? (
          <button type="button" className="rail-item" onClick={exportPlan} title="Export the plan file">
            <Download size={18} aria-hidden />
            Export
          </button>
        ) : (
          <button type="button" className="rail-item" onClick={saving.stop} title="Stop exporting">
            <CircleStop size={18} aria-hidden />
            {saving.records.toLocaleString("en")}
          </button>
        )}
        <button
          type="button"
          className="rail-item"
          onClick={toggleMode}
          title="Light or dark"
          aria-label="Light or dark"
        >
          <Moon size={18} aria-hidden />
          Dark
        </button>
        <button type="button" className="rail-item" onClick={() => setHelp(true)} title="Keys (?)">
          <CircleHelp size={18} aria-hidden />
          Keys
        </button>
      </nav>
      <main id="view" className="view" tabIndex={-1}>
        <Outlet />
      </main>
      <VerdictColumn />
      <div className={told?.bad ? "status bad" : "status"} role={told?.bad ? "alert" : "status"} key={told?.number}>
        {told?.text.split("\n").map((line) => (
          <div key={line}>{line}</div>
        ))}
      </div>
      {finding && (
        <Finder
          close={() => setFinding(false)}
          showKeys={() => setHelp(true)}
          exportPlan={exportPlan}
          logOut={logOut}
        />
      )}
      {help && <KeyHelp close={() => setHelp(false)} />}
    </div>
  );
}

function RailLink({ to, label, hint, icon }: { to: string; label: string; hint: string; icon: React.ReactNode }) {
  return (
    <NavLink
      to={to}
      className={({ isActive }) => (isActive ? "rail-item active" : "rail-item")}
      title={`${label} (${hint})`}
    >
      {icon}
      {label}
    </NavLink>
  );
}
