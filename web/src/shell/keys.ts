import { useSyncExternalStore } from "react";

const KEY = "aptwire-single-keys";
const heard = new Set<() => void>();

/**
 * Whether keys without Ctrl act wherever the focus is; who speaks to the machine or hits keys by chance puts them
 * out.
 */
const areOn = (): boolean => localStorage.getItem(KEY) !== "off";

/** Put keys that act without Ctrl on or out, on this machine. */
export function setSingleKeys(on: boolean): void {
  localStorage.setItem(KEY, on ? "on" : "off");
  for (const tell of heard) tell();
}

/** Whether single keys act, kept up to date. */
export const useSingleKeys = (): boolean =>
  useSyncExternalStore((tell) => {
    heard.add(tell);
    return () => heard.delete(tell);
  }, areOn);

/**
 * Whether a key press is meant for a field or a sheet that takes text.  A sheet that draws its cells anew loses the
 * page's focus with the cell that had it, while it goes on hearing keys for the cell that it marks.
 */
export const isTyping = (target: EventTarget | null): boolean =>
  target instanceof HTMLElement &&
  (target.isContentEditable ||
    ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName) ||
    target.closest("[role=treegrid]") !== null ||
    (target === document.body && document.querySelector("[role=treegrid] .focused-cell") !== null));

/** Whether it is meant for an open panel. */
export const inPanel = (target: EventTarget | null): boolean =>
  target instanceof Element && target.closest("[role=dialog]") !== null;
