import { Button, type ButtonProps } from "@chakra-ui/react";
import { useRef } from "react";

/** A button with which a file is chosen. */
export function FileButton({
  label,
  accept,
  take,
  ...button
}: Omit<ButtonProps, "onClick"> & {
  /** What the file is. */
  label: string;
  accept: string;
  take: (file: File) => void;
}) {
  const picker = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={picker}
        type="file"
        accept={accept}
        hidden
        aria-label={label}
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) take(file);
          event.target.value = "";
        }}
      />
      <Button {...button} onClick={() => picker.current?.click()} />
    </>
  );
}
