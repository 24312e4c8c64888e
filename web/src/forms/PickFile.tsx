import { Button, FileButton, type ButtonProps } from "@mantine/core";
import { useRef } from "react";

/** A button that asks for a file; the same file can be chosen again after it was changed. */
export function PickFile({
  accept,
  onFile,
  children,
  ...rest
}: { accept: string; onFile: (file: File) => void; children: React.ReactNode } & ButtonProps) {
  const reset = useRef<() => void>(null);
  return (
    <FileButton
      resetRef={reset}
      accept={accept}
      onChange={(file) => {
        if (file) {
          onFile(file);
          reset.current?.();
        }
      }}
    >
      {(p) => (
        <Button {...rest} {...p}>
          {children}
        </Button>
      )}
    </FileButton>
  );
}

/** A form with one file, as uploads want it. */
export function withFile(file: File): { body: never; bodySerializer: (b: unknown) => FormData } {
  const body = new FormData();
  body.append("file", file);
  return { body: body as never, bodySerializer: (b) => b as FormData };
}

/** The name under which the server keeps a file. */
export const keptName = (file: File): string =>
  file.name
    .replace(/[^A-Za-z0-9._-]/g, "-")
    .replace(/^[.-]+|[.-]+$/g, "")
    .slice(0, 120) || "model";

/** Whether a further file of a job is a body, and no drawing and no text. */
export const isBody = (name: string): boolean => !/\.(dxf|svg|cl|cls|apt|txt)$/i.test(name);
