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
