import "./shell.css";

import { Button, HStack, Menu } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { ChevronDown, ChevronRight, CircleHelp, CircleStop, Download, Moon, Redo2, Search, Undo2 } from "lucide-react";
import { memo, useCallback, useLayoutEffect, useState, type ReactNode } from "react";
import { Link, NavLink, Outlet, useNavigate } from "react-router";

import { api } from "../api/client";
import { useActions, useHead, usePresence, WithRecords } from "../api/plan";
import { useExport } from "../api/save";
import { toggleMode } from "../theme";
import { GROUPED, VIEWS, type View } from "../views/registry";
import { DraftSwitch, OnDraft } from "./Drafts";
import { Finder } from "./Finder";
import { KeyHelp } from "./KeyHelp";
import { isTyping, useSingleKeys } from "./keys";
import { Logo } from "./Logo";
import { VerdictColumn } from "./VerdictColumn";

/** What can be taken along beside the plan file. */
const PAPER = [
  ["report", "Hand-over report (HTML)"],
  ["validation", "Validation report with evidence (HTML)"],
  ["sheet?of=segments&form=xlsx", "Segments (XLSX)"],
  ["sheet?of=wiring&form=xlsx", "Wiring schedule (XLSX)"],
  ["sheet?of=ports&form=xlsx", "Ports of each switch (XLSX)"],
  ["sheet?of=guests&form=xlsx", "Guests (XLSX)"],
  ["sheet?of=landing&form=xlsx", "Where everything lands (XLSX)"],
  ["sheet?of=meetings&form=xlsx", "Who meets whom (XLSX)"],
  ["sheet?of=moves&form=xlsx", "Where guests could run (XLSX)"],
  ["topology", "Own segments as a topology (RFC 8345)"],
] as const;

export function Shell({ user }: { user: string }) {
  const { id, base, at, tell, undo, redo } = useActions();
  const { draft_of: of } = useHead();
  const single = useSingleKeys();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [finding, setFinding] = useState(false);
  const [help, setHelp] = useState(false);
  const logOut = useCallback(() => {
    void api.DELETE("/api/session").then(() => queries.resetQueries({ queryKey: ["session"] }));
  }, [queries]);

  const saving = useExport(useCallback((why: string) => tell(why, true), [tell]));
  const { start } = saving;
  const exportPlan = useCallback(() => start(id, at), [start, id, at]);

  // Before anything is painted, so that no key is lost on who sees the plan.
  useLayoutEffect(() => {
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
      } else if (!command && !event.altKey && single) {
        const view = VIEWS.find((v) => v.key === event.key);
        if (event.key === "?") setHelp(true);
        else if (view) void navigate(`${base}/${view.address}`);
      }
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [finding, help, base, navigate, redo, single, undo]);

  const find = useCallback(() => setFinding(true), []);
  const showKeys = useCallback(() => setHelp(true), []);
  return (
    <div className={at === undefined && of === null ? "shell" : "shell past"}>
      <a className="skip" href="#view">
        To the view
      </a>
      <Topbar user={user} find={find} logOut={logOut} />
      <Rail exporting={saving.records} exportPlan={exportPlan} stop={saving.stop} showKeys={showKeys} />
      {at !== undefined && (
        <HStack as="section" className="looking" aria-label="Looking at the past">
          <span>Revision {at} as it was: to be looked at, not to be changed.</span>
          <Link className="plain-link" to={`/plans/${id}/history?revision=${at}`}>
            Its place in the history
          </Link>
          <Link className="plain-link" to={`/plans/${id}`}>
            {of === null ? "Back to the plan as it is" : "Back to the draft as it is"}
          </Link>
        </HStack>
      )}
      {at === undefined && of !== null && <OnDraft />}
      <main id="view" className="view" tabIndex={-1}>
        <Outlet />
      </main>
      <VerdictColumn />
      <Status />
      {finding && (
        <WithRecords waiting={() => null}>
          <Finder close={() => setFinding(false)} showKeys={showKeys} exportPlan={exportPlan} logOut={logOut} />
        </WithRecords>
      )}
      {help && <KeyHelp close={() => setHelp(false)} />}
    </div>
  );
}

/** Where one is, what can be undone, and who else is here. */
const Topbar = memo(function Topbar({ user, find, logOut }: { user: string; find: () => void; logOut: () => void }) {
  const { undo, redo } = useActions();
  const {
    revision,
    steps: { undo: back, redo: forth },
  } = useHead();
  const { people, connected, busy } = usePresence();
  return (
    <header className="topbar">
      <Link to="/plans" className="brand" title="To the plans">
        <Logo /> <span>Apt Wire</span>
      </Link>
      <DraftSwitch />
      <span className="revision mono">revision {revision}</span>
      {!connected && (
        <span className="offline" role="status">
          connection lost, trying again
        </span>
      )}
      <button type="button" className="finder-button" onClick={find}>
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
  );
});

/** The views, and what is done with the plan as a whole. */
const Rail = memo(function Rail({
  exporting,
  exportPlan,
  stop,
  showKeys,
}: {
  /** How many records of the plan file are there; null: none is being exported. */
  exporting: number | null;
  exportPlan: () => void;
  stop: () => void;
  showKeys: () => void;
}) {
  const { id, base, at } = useActions();
  const past = (part: string): string => (at === undefined ? "" : `${part.includes("?") ? "&" : "?"}at=${at}`);
  return (
    <nav className="rail" aria-label="Views">
      {GROUPED.map(([group, views]) => (
        <RailGroup key={group} name={group}>
          {views.map((view) => (
            <RailLink key={view.address} to={`${base}/${view.address}`} view={view} />
          ))}
        </RailGroup>
      ))}
      <span className="spring" />
      {exporting === null ? (
        <Menu.Root
          positioning={{ placement: "right-end", strategy: "fixed" }}
          onSelect={({ value }) => value === "plan" && exportPlan()}
        >
          <Menu.Trigger asChild>
            <button type="button" className="rail-item" title="Take the plan along">
              <Download size={18} aria-hidden />
              Export
            </button>
          </Menu.Trigger>
          <Menu.Positioner>
            <Menu.Content bg="sheet">
              <Menu.Item value="plan">Plan file</Menu.Item>
              {PAPER.map(([part, label]) => (
                <Menu.Item key={part} value={part} asChild>
                  <a href={`/api/plans/${id}/${part}${past(part)}`} download>
                    {label}
                  </a>
                </Menu.Item>
              ))}
            </Menu.Content>
          </Menu.Positioner>
        </Menu.Root>
      ) : (
        <button type="button" className="rail-item" onClick={stop} title="Stop exporting">
          <CircleStop size={18} aria-hidden />
          {exporting.toLocaleString("en")}
        </button>
      )}
      <button type="button" className="rail-item" onClick={toggleMode} title="Light or dark" aria-label="Light or dark">
        <Moon size={18} aria-hidden />
        Dark
      </button>
      <button type="button" className="rail-item" onClick={showKeys} title="Keys (?)">
        <CircleHelp size={18} aria-hidden />
        Keys
      </button>
    </nav>
  );
});

/** What happened last. */
function Status() {
  const { told } = usePresence();
  return (
    <div className={told?.bad ? "status bad" : "status"} role={told?.bad ? "alert" : "status"} key={told?.number}>
      {told?.text.split("\n").map((line) => (
        <div key={line}>{line}</div>
      ))}
    </div>
  );
}

function RailLink({ to, view }: { to: string; view: View }) {
  const Icon = view.icon;
  return (
    <NavLink
      to={to}
      className={({ isActive }) => (isActive ? "rail-item active" : "rail-item")}
      title={`${view.name}: ${view.does} (${view.key.toUpperCase()})`}
    >
      <Icon size={20} aria-hidden />
      {view.name}
    </NavLink>
  );
}

const FOLDED = "aptwire-rail-folded";

/** A group of views, which folds up and stays so on this machine. */
function RailGroup({ name, children }: { name: string; children: ReactNode }) {
  const [folded, setFolded] = useState(() => (localStorage.getItem(FOLDED) ?? "").split(",").includes(name));
  const fold = (): void => {
    const others = (localStorage.getItem(FOLDED) ?? "").split(",").filter((other) => other && other !== name);
    localStorage.setItem(FOLDED, (folded ? others : [...others, name]).join(","));
    setFolded(!folded);
  };
  return (
    <section aria-label={name}>
      <Button variant="plain" className="rail-group" aria-expanded={!folded} onClick={fold}>
        {name} {folded ? <ChevronRight size={10} aria-hidden /> : <ChevronDown size={10} aria-hidden />}
      </Button>
      {!folded && children}
    </section>
  );
}
