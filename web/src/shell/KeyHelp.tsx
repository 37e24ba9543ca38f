import { CloseButton, Dialog, Portal, Switch, Table } from "@chakra-ui/react";

import { VIEWS } from "../views/registry";
import { setSingleKeys, useSingleKeys } from "./keys";

const KEYS: [string, string][] = [
  ["Ctrl K", "Find anything, or run a command"],
  ["Ctrl Z, Ctrl Shift Z", "Undo, redo"],
  [VIEWS.map((view) => view.key.toUpperCase()).join(", "), VIEWS.map((view) => view.name).join(", ")],
  ["Tab, Shift Tab", "From one part of the drawing to the next"],
  ["Enter", "Open what is focused: a tag to change, an adapter to move, a cable to plug elsewhere, a finding"],
  ["M", "Move the focused adapter to a port group, or guest to a host, with what would become of it"],
  ["↑ ↓, Enter", "Choose an outcome, take it"],
  ["N", "Make a switch on the host of what is focused: NICs, port group, guests"],
  ["G", "Build on the focused switch: more NICs, another port group, guests"],
  ["C", "Lay the host beside another one, differences lined up"],
  [
    "X, Ctrl click",
    "Pick the focused part, beside what is picked already; Shift X picks all of its name, on every host",
  ],
  ["E", "Edit what is picked, together"],
  ["A", "Add a host, a fabric switch or a segment"],
  ["F", "Follow the segment of the focused slot or adapter"],
  ["−, +", "See all hosts as marks, or near with every part; Ctrl and the wheel does the same"],
  ["Ctrl D", "In a sheet: fill the first row of what is picked down"],
  ["Enter, Shift Enter", "On Landing: do what the cell says (show, ping, open the finding); take its mend"],
  ["Esc", "Close what is open; nothing is changed"],
  ["?", "These keys"],
];

export function KeyHelp({ close }: { close: () => void }) {
  const single = useSingleKeys();
  return (
    <Dialog.Root open onOpenChange={(e) => !e.open && close()} size="md">
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet">
            <Dialog.Header>
              <Dialog.Title>Keys</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>
              <Switch.Root
                colorPalette="copper"
                checked={single}
                onCheckedChange={(e) => setSingleKeys(e.checked)}
                mb="3"
              >
                <Switch.HiddenInput />
                <Switch.Control />
                <Switch.Label>Keys without Ctrl act</Switch.Label>
              </Switch.Root>
              <Table.Root size="sm">
                <Table.Body>
                  {KEYS.map(([keys, does]) => (
                    <Table.Row key={keys} bg="sheet">
                      <Table.ColumnHeader scope="row" whiteSpace="nowrap">
                        <kbd>{keys}</kbd>
                      </Table.ColumnHeader>
                      <Table.Cell>{does}</Table.Cell>
                    </Table.Row>
                  ))}
                </Table.Body>
              </Table.Root>
            </Dialog.Body>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
