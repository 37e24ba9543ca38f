import { Button } from "@chakra-ui/react";
import type { ReactNode } from "react";

/** One of a list, to be chosen: its number, what it is called, and more lines about it. */
export function NumberedItem({
  number,
  name,
  current,
  go,
  children,
}: {
  number: number;
  name: string;
  current: boolean;
  go: () => void;
  children: ReactNode;
}) {
  return (
    <li>
      <Button variant="ghost" className="history-item" aria-current={current} onClick={go}>
        <span className="history-number mono">{number}</span>
        <span className="history-text">
          <span className="history-message">{name}</span>
          {children}
        </span>
      </Button>
    </li>
  );
}
