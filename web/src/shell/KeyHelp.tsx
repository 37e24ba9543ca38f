import { CloseButton, Dialog, Portal } from "@chakra-ui/react";

const KEYS: [string, string][] = [
  ["Ctrl K", "Find anything, or run a command"],
  ["Ctrl Z, Ctrl Shift Z", "Undo, redo"],
  ["1, 2, 3, 4", "Decks, Landing, Trace, Bench"],
  ["Tab, Shift Tab", "From one part of the drawing to the next"],
  ["Enter", "Open what is focused: a tag to change, an adapter to move, a cable to plug elsewhere, a finding"],
  ["M", "Move the focused adapter, with the outcome of each port group"],
  ["↑ ↓, Enter", "Choose an outcome, take it"],
  ["N", "Make a switch on the host of what is focused: NICs, port group, guests"],
  ["G", "Build on the focused switch: more NICs, another port group, guests"],
  ["C", "Lay the host beside another one, differences lined up"],
  [
    "X, Ctrl click",
    "Pick the focused part, beside what is picked already; Shift X picks all of its name, on every host",
  ],
  ["E", "Edit what is picked, together"],
  ["F", "Follow the segment of the focused slot or adapter"],
  ["Esc", "Close what is open; nothing is changed"],
  ["?", "These keys"],
];

export function KeyHelp({ close }: { close: () => void }) {
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
              <table className="keys">
                <tbody>
                  {KEYS.map(([keys, does]) => (
                    <tr key={keys}>
                      <th scope="row">
                        <kbd>{keys}</kbd>
                      </th>
                      <td>{does}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
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
