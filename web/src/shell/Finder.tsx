import { Dialog, Portal } from "@chakra-ui/react";
import { useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";

import type { RecordOf } from "../api/client";
import { usePlan, type PlanState } from "../api/plan";
import { portName } from "../decks/edits";
import { tagText } from "../model/ports";
import { goOn, matcher, readQuery, type Matcher } from "../model/query";
import { holdsVid, readVid } from "../model/records";
import { endsOf } from "../strand/rows";
import { toggleMode } from "../theme";
import { VIEWS } from "../views/registry";

interface Entry {
  what: string;
  name: string;
  detail: string;
  /** Everything that a search may match, in lower case. */
  text: string;
  /** A list of VIDs, any of which finds it. */
  carries?: string | null;
  /** Whether it is what a query asks for; what has none is found by words alone. */
  fits?: (asked: Matcher) => boolean;
  go: () => void;
  /** What the query becomes by it, where it is a way to go on. */
  query?: string;
}

/** A way in which what is typed could go on. */
const wayOn = (query: string): Entry => ({
  what: "query",
  name: query,
  detail: "go on",
  text: "",
  go: () => {},
  query,
});

const MOST = 40;
const MOST_WAYS = 6;
/** A pair of which the value isn't typed yet. */
const OPEN_PAIR = /(^|\s)[a-z]+:$/i;
const ADD = [
  ["host", "a host"],
  ["fabric_switch", "a fabric switch"],
  ["segment", "a segment"],
] as const;

/** Everything that can be found: what stands in the plan, and every command. */
function entries(plan: PlanState, navigate: (to: string) => void, commands: [string, string, () => void][]): Entry[] {
  const { book, base } = plan;
  const made: Entry[] = [];
  const add = (
    what: string,
    name: string,
    detail: string,
    more: string,
    go: () => void,
    found: Pick<Entry, "carries" | "fits"> = {},
  ): void => {
    made.push({ what, name, detail, text: `${name} ${detail} ${more} ${what}`.toLowerCase(), go, ...found });
  };
  const endpoint =
    (id: string) =>
    (asked: Matcher): boolean => {
      const found = plan.snapshot.endpoints.get(id);
      return found?.tags.some((tag) => asked.tag(found, tag)) ?? false;
    };
  const at = (record: string) => () => navigate(`${base}/decks?at=${encodeURIComponent(record)}`);
  for (const [name, detail, go] of commands) add("command", name, detail, "", go);
  for (const s of book.records.segment) {
    add(
      "segment",
      s.name,
      s.vid ? `VID ${s.vid}` : "untagged",
      [...(s.subnets ?? []), ...(s.gateways ?? [])].join(" "),
      () => navigate(`${base}/decks?follow=${encodeURIComponent(s.id)}`),
      { fits: (asked) => asked.segment(s) },
    );
  }
  const hostName = (host: string): string => book.get("host", host)?.name ?? host;
  for (const h of book.records.host)
    add("host", h.name, h.site ?? "", "", at(h.id), { fits: (asked) => asked.host(h, []) });
  for (const g of book.records.guest)
    add("guest", g.name, hostName(g.host), "", at(g.id), {
      fits: (asked) => asked.record(g) || book.of("adapter", "guest", g.id).some((a) => endpoint(a.id)(asked)),
    });
  for (const a of book.records.adapter) {
    const guest = book.get("guest", a.guest);
    const tags = book.of("guest_tag", "adapter", a.id);
    const addresses = [...(a.addresses ?? []), ...tags.flatMap((t) => t.addresses ?? [])];
    add(
      "adapter",
      `${guest ? hostName(guest.host) : ""}/${a.name}`,
      [guest?.name, a.mac, ...addresses].filter(Boolean).join("  "),
      "",
      at(a.id),
      { fits: endpoint(a.id) },
    );
  }
  for (const p of book.records.host_port) {
    const sw = book.get("virtual_switch", p.switch);
    add(
      "host port",
      `${sw ? hostName(sw.host) : ""}/${p.name}`,
      (p.addresses ?? []).join("  "),
      (p.services ?? []).join(" "),
      at(p.id),
      { fits: endpoint(p.id) },
    );
  }
  for (const n of book.records.nic) add("NIC", `${hostName(n.host)}/${n.name}`, n.mac ?? "", "", at(n.id));
  for (const s of book.records.fabric_switch) add("fabric switch", s.name, s.site ?? "", "", at(s.id));
  const on = (sw: string): string => {
    const record = book.get("virtual_switch", sw);
    return record ? `${hostName(record.host)} ${record.name}` : "";
  };
  for (const s of book.records.virtual_switch) add("virtual switch", `${hostName(s.host)}/${s.name}`, "", "", at(s.id));
  for (const g of book.records.port_group)
    add("port group", g.name, `${tagText(g)} on ${on(g.switch)}`, "", at(g.id), { carries: g.allowed });
  for (const u of book.records.uplink) add("uplink", u.name, on(u.switch), "team", at(u.id));
  for (const p of book.records.fabric_port) {
    const name = portName(book, p.id);
    add("fabric port", name, tagText(p), "port", at(p.id), {
      carries: p.allowed,
      fits: (asked) => asked.record({ ...p, name }, carried(p)),
    });
  }
  for (const c of book.records.cable) {
    const name = endsOf(book, c).join(" – ");
    add(
      "cable",
      name,
      [c.label, ...(c.places ?? [])].filter(Boolean).join("  "),
      "",
      () => navigate(`${base}/strand?cable=${encodeURIComponent(c.id)}`),
      {
        fits: (asked) => {
          const ends = [c.a, c.b].flatMap((end) => book.get("fabric_port", end) ?? []);
          return ends.length > 0 && ends.every((port) => asked.record({ ...c, name }, carried(port)));
        },
      },
    );
  }
  for (const l of book.records.lag)
    add(
      "LAG",
      `${book.get("fabric_switch", l.switch)?.name ?? ""} ${l.name}`,
      book
        .of("fabric_port", "lag", l.id)
        .map((p) => p.name)
        .join(", "),
      "",
      at(l.id),
    );
  for (const s of book.records.station) {
    const ports = book.of("station_port", "station", s.id);
    add("station", s.name, ports.flatMap((p) => p.addresses ?? []).join("  "), "", at(s.id));
  }
  return made;
}

/** The VIDs that a port lets through, as a list. */
function carried({ mode, vid, allowed, members }: RecordOf<"fabric_port">): string {
  if (mode === "standard") return members ?? "";
  if (mode === "trunk") return allowed ?? "0-4094";
  return vid ? String(vid) : "";
}

interface Commands {
  close: () => void;
  showKeys: () => void;
  exportPlan: () => void;
  logOut: () => void;
}

/** A MAC address as records have it, however it was typed; "" where it is none. */
const macOf = (word: string): string =>
  /^[\da-f]{2}([:-][\da-f]{2}){5}$|^[\da-f]{4}(\.[\da-f]{4}){2}$|^[\da-f]{12}$/.test(word)
    ? (word.replaceAll(/[:.-]/g, "").match(/../g) ?? []).join(":")
    : "";

/** Whether a text (small letters) holds a word, or the MAC address that the word is. */
const says = (text: string, word: string): boolean => {
  const mac = macOf(word);
  return text.includes(word) || (mac !== "" && text.includes(mac));
};

export function Finder({ close, showKeys, exportPlan, logOut }: Commands) {
  const plan = usePlan();
  const go = useNavigate();
  const [text, setText] = useState("");
  const [chosen, setChosen] = useState(0);
  const list = useRef<HTMLUListElement>(null);
  const all = useMemo(
    () =>
      entries(plan, (to) => void go(to), [
        ["Undo", plan.snapshot.steps.undo?.message ?? "nothing of yours to undo", plan.undo],
        ["Redo", plan.snapshot.steps.redo?.message ?? "nothing to redo", plan.redo],
        ...VIEWS.map((view): [string, string, () => void] => [
          view.name,
          view.does,
          () => void go(`${plan.base}/${view.address}`),
        ]),
        ...ADD.map(([page, name]): [string, string, () => void] => [
          `Add ${name}`,
          "to this plan",
          () => void go(`${plan.base}/decks?add=${page}`),
        ]),
        ["Write a rule", "what must hold in this plan", () => void go(`${plan.base}/rules?write=`)],
        ["Plans", "all plans", () => void go("/plans")],
        ["Read real hosts", "a new plan from host states", () => void go("/plans/read")],
        ["Export", "the plan file", exportPlan],
        ["Light or dark", "", toggleMode],
        ["Keys", "every key", showKeys],
        ["Log out", "", logOut],
      ]),
    [plan, go, showKeys, exportPlan, logOut],
  );
  const asked = useMemo(() => readQuery(text), [text]);
  const { book, snapshot } = plan;
  const matching = useMemo(() => {
    if (!asked.pairs.length && !OPEN_PAIR.test(text)) {
      const words = text.toLowerCase().split(/\s+/).filter(Boolean);
      return all.filter((entry) =>
        words.every(
          (word) => says(entry.text, word) || (entry.carries != null && holdsVid(entry.carries, readVid(word))),
        ),
      );
    }
    const fitting = matcher(asked, book, snapshot.summary.off);
    // A field without its value asks for nothing yet.
    const found = asked.pairs.length ? all.filter((entry) => entry.fits?.(fitting)) : [];
    const ways = goOn(text, book).filter((way) => way !== text);
    const landing: Entry = {
      what: "command",
      name: "Show them on Landing",
      detail: "to look through, pick and edit together",
      text: "",
      go: () => void go(`${plan.base}/landing?q=${encodeURIComponent(text)}`),
    };
    const places = found.some(({ what }) => what === "adapter" || what === "host port");
    return [...ways.slice(0, MOST_WAYS).map(wayOn), ...(places ? [landing] : []), ...found];
  }, [all, asked, text, book, snapshot.summary.off, go, plan.base]);
  const first = text.toLowerCase().trim();
  const found = matching
    .map((entry, order) => ({
      entry,
      score:
        (first && entry.name.toLowerCase().startsWith(first)
          ? 0
          : first && entry.name.toLowerCase().includes(first)
            ? 1
            : 2) *
          1e6 +
        order,
    }))
    .sort((a, b) => a.score - b.score)
    .slice(0, MOST)
    .map(({ entry }) => entry);
  const at = Math.min(chosen, Math.max(found.length - 1, 0));
  const take = (entry: Entry | undefined): void => {
    if (!entry) return;
    if (entry.query !== undefined) {
      setText(entry.query);
      setChosen(0);
      return;
    }
    close();
    entry.go();
  };
  return (
    <Dialog.Root open onOpenChange={(e) => !e.open && close()} placement="top" size="lg">
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" aria-label="Finder" mt="14">
            <div className="finder">
              <input
                autoFocus
                role="combobox"
                aria-expanded="true"
                aria-controls="finder-list"
                aria-activedescendant={found.length ? `finder-${at}` : undefined}
                aria-label="Find a host, guest, adapter, MAC, address, VID, port or command"
                placeholder="Find a host, guest, adapter, MAC, address, VID, port or command"
                value={text}
                onChange={(e) => {
                  setText(e.target.value);
                  setChosen(0);
                }}
                onKeyDown={(e) => {
                  if (e.key === "ArrowDown" || e.key === "ArrowUp") {
                    e.preventDefault();
                    const next = (at + (e.key === "ArrowDown" ? 1 : -1) + found.length) % Math.max(found.length, 1);
                    setChosen(next);
                    list.current?.children[next]?.scrollIntoView({ block: "nearest" });
                  } else if (e.key === "Enter") {
                    e.preventDefault();
                    take(found[at]);
                  }
                }}
              />
              <ul id="finder-list" role="listbox" aria-label="Found" ref={list}>
                {found.map((entry, n) => (
                  <li
                    key={`${entry.what} ${entry.name} ${entry.detail}`}
                    id={`finder-${n}`}
                    role="option"
                    aria-selected={n === at}
                    onMouseMove={() => setChosen(n)}
                    onClick={() => take(entry)}
                  >
                    <span className="finder-name">{entry.name}</span>
                    <span className="finder-detail">{entry.detail}</span>
                    <span className="finder-what">{entry.what}</span>
                  </li>
                ))}
              </ul>
              {asked.wrong.length > 0 && (
                <p className="finder-none" role="alert">
                  {asked.wrong.join("; ")}
                </p>
              )}
              {!found.length && !asked.wrong.length && (
                <p className="finder-none">
                  Nothing in this plan matches. Try part of a name, a MAC, an address or a VID, or role:storage,
                  vid:200-299, verdict:wavering, pattern:off.
                </p>
              )}
              {matching.length > MOST && (
                <p className="finder-none">{matching.length - MOST} more: type on to narrow it down.</p>
              )}
            </div>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
