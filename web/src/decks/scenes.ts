import { differing } from "../model/differ";
import type { Scene } from "./parts";

/** What concerns every host. */
const SHARED = ["segmentOf", "numberOf", "follow", "touched", "broken", "selected", "targets", "over"] as const;

/**
 * A scene for each host that is the same as before while nothing in it concerns the host: of an edit only the hosts
 * are drawn anew that it touches, or whose endpoints fare otherwise by it. `select` and `grab` have to be the same
 * always, since who keeps an old scene calls its.
 */
export function scenes(): (scene: Scene) => (host: string) => Scene {
  let last: Scene | null = null;
  // A scene holds a whole book: whoever wasn't drawn since the last one loses his.
  let kept: ReadonlyMap<string, Scene> = new Map();
  let drawn = new Map<string, Scene>();
  return (scene) => {
    if (last && scene !== last) {
      const before = last;
      const differs = SHARED.every((part) => before[part] === scene[part]) ? differing(before.book, scene.book) : null;
      const same = (host: string): boolean => {
        const name = scene.book.get("host", host)?.name ?? "";
        return (
          !differs!.hosts.has(host) &&
          before.ofHost.get(name) === scene.ofHost.get(name) &&
          before.off.has(host) === scene.off.has(host)
        );
      };
      kept = new Map(differs && !differs.elsewhere ? [...drawn].filter(([host]) => same(host)) : []);
      drawn = new Map();
    }
    last = scene;
    return (host) => {
      const known = kept.get(host) ?? scene;
      drawn.set(host, known);
      return known;
    };
  };
}
