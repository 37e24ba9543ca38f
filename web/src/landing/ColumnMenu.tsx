import { Button, Menu, Portal } from "@chakra-ui/react";

import { COLUMNS, USUAL, type Column } from "./columns";

/** Which columns stand: each is shown or left out; the usual ones come back in one step. */
export function ColumnMenu({ shown, choose }: { shown: readonly Column[]; choose: (ids: readonly string[]) => void }) {
  const ids = shown.map((column) => column.id);
  return (
    <Menu.Root
      size="sm"
      closeOnSelect={false}
      positioning={{ placement: "bottom-end" }}
      onSelect={({ value }) => value === "usual" && choose(USUAL)}
    >
      <Menu.Trigger asChild>
        <Button size="xs" height="7" variant="outline">
          Columns
        </Button>
      </Menu.Trigger>
      <Portal>
        <Menu.Positioner>
          <Menu.Content bg="sheet">
            {COLUMNS.filter((column) => !column.always).map(({ id, title, hint }) => (
              <Menu.CheckboxItem
                key={id}
                value={id}
                title={hint}
                checked={ids.includes(id)}
                onCheckedChange={(on) => choose(on ? [...ids, id] : ids.filter((other) => other !== id))}
              >
                {title}
                <Menu.ItemIndicator />
              </Menu.CheckboxItem>
            ))}
            <Menu.Separator />
            <Menu.Item value="usual">The usual ones</Menu.Item>
          </Menu.Content>
        </Menu.Positioner>
      </Portal>
    </Menu.Root>
  );
}
