import { Select as RadixSelect, Switch as RadixSwitch } from "radix-ui";
import { type ButtonHTMLAttributes, type ComponentProps, type ReactNode, useId } from "react";

type Tone = "plain" | "main" | "quiet" | "danger";
const TONES: Record<Tone, string> = {
  plain: "border border-rule bg-sheet text-ink hover:bg-sunk",
  main: "border border-leaf bg-leaf text-on-leaf hover:opacity-90",
  quiet: "border border-transparent text-soft hover:bg-sunk hover:text-ink",
  danger: "border border-transparent text-brick hover:bg-brick-wash",
};

export function Button({
  tone = "plain",
  className = "",
  ...rest
}: { tone?: Tone } & ButtonHTMLAttributes<HTMLButtonElement>) {
  const look =
    "inline-flex h-8 items-center justify-center gap-1.5 rounded-small px-3 text-sm font-medium whitespace-nowrap";
  return (
    <button
      type="button"
      className={`${look} disabled:opacity-45 ${TONES[tone]} ${className}`}
      {...rest}
    />
  );
}

export const INPUT =
  "h-8 min-w-0 rounded-small border border-rule bg-sheet px-2 text-sm text-ink placeholder:text-faint disabled:opacity-60 aria-invalid:border-brick";

export function Input({ className = "", ...rest }: ComponentProps<"input">) {
  // Of two widths the later in the style sheet would win, whichever was meant.
  const width = /(^|\s)w-/.test(className) ? "" : "w-full";
  return <input className={`${INPUT} ${width} ${className}`} {...rest} />;
}

export function Panel({
  title,
  aside,
  children,
  className = "",
}: {
  title: string;
  aside?: ReactNode;
  children: ReactNode;
  className?: string;
}) {
  return (
    <section
      aria-label={title}
      className={`flex min-h-0 flex-col rounded-box border border-rule bg-sheet ${className}`}
    >
      <header className="flex min-h-11 items-center justify-between gap-3 border-b border-rule px-4">
        <h2 className="text-sm font-semibold">{title}</h2>
        <div className="text-xs text-faint">{aside}</div>
      </header>
      {children}
    </section>
  );
}

export type Meaning = "leaf" | "slate" | "amber" | "brick" | "plain";
const MEANINGS: Record<Meaning, string> = {
  leaf: "bg-leaf-wash text-leaf",
  slate: "bg-slate-wash text-slate",
  amber: "bg-amber-wash text-amber",
  brick: "bg-brick-wash text-brick",
  plain: "bg-sunk text-soft",
};

export function Badge({ meaning = "plain", children }: { meaning?: Meaning; children: ReactNode }) {
  return (
    <span
      className={`inline-block rounded-small px-1.5 py-px text-xs font-medium whitespace-nowrap ${MEANINGS[meaning]}`}
    >
      {children}
    </span>
  );
}

/** The colour of a participant: legible on light and dark. */
export function hueStyle(hue: number) {
  return { backgroundColor: `hsl(${hue} 45% var(--hue-light))` };
}

export function Dot({ hue }: { hue: number }) {
  return (
    <span
      aria-hidden
      className="inline-block size-2.5 shrink-0 rounded-full"
      style={hueStyle(hue)}
    />
  );
}

export function Switch({
  label,
  name,
  tone = "amber",
  checked,
  onChange,
}: {
  label: string;
  tone?: "amber" | "leaf";
  /** What it is called by a screen reader, where the label alone does not say. */
  name?: string;
  checked: boolean;
  onChange: (checked: boolean) => void;
}) {
  const id = useId();
  return (
    <span className="inline-flex items-center gap-2 text-xs text-soft">
      <RadixSwitch.Root
        id={id}
        aria-label={name}
        checked={checked}
        onCheckedChange={onChange}
        className={`relative h-4.5 w-8 rounded-full border border-rule bg-sunk ${
          tone === "leaf"
            ? "data-[state=checked]:border-leaf data-[state=checked]:bg-leaf"
            : "data-[state=checked]:border-amber data-[state=checked]:bg-amber"
        }`}
      >
        <RadixSwitch.Thumb className="block size-3 translate-x-0.5 rounded-full bg-faint transition-transform data-[state=checked]:translate-x-4 data-[state=checked]:bg-sheet" />
      </RadixSwitch.Root>
      <label htmlFor={id}>{label}</label>
    </span>
  );
}

export function Select({
  label,
  value,
  options,
  onChange,
  disabled = false,
  className = "",
}: {
  label: string;
  value: string;
  options: { value: string; text: string }[];
  onChange: (value: string) => void;
  disabled?: boolean;
  className?: string;
}) {
  return (
    <RadixSelect.Root value={value} onValueChange={onChange} disabled={disabled}>
      <RadixSelect.Trigger
        aria-label={label}
        className={`inline-flex h-8 min-w-0 items-center justify-between gap-2 rounded-small border border-rule bg-sheet px-2 text-sm disabled:opacity-60 ${className}`}
      >
        <span className="truncate">
          <RadixSelect.Value placeholder="unset" />
        </span>
        <span aria-hidden className="text-xs text-faint">
          ▾
        </span>
      </RadixSelect.Trigger>
      <RadixSelect.Portal>
        <RadixSelect.Content
          position="popper"
          sideOffset={4}
          className="z-20 max-h-72 min-w-(--radix-select-trigger-width) overflow-auto rounded-small border border-rule bg-sheet p-1 shadow-lg"
        >
          <RadixSelect.Viewport>
            {options.map((option) => (
              <RadixSelect.Item
                key={option.value}
                value={option.value}
                className="rounded-small px-2 py-1 text-sm outline-none select-none data-[highlighted]:bg-leaf-wash data-[state=checked]:font-semibold"
              >
                <RadixSelect.ItemText>{option.text}</RadixSelect.ItemText>
              </RadixSelect.Item>
            ))}
          </RadixSelect.Viewport>
        </RadixSelect.Content>
      </RadixSelect.Portal>
    </RadixSelect.Root>
  );
}

/** A place without content yet, in words. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className="px-4 py-8 text-center">
      <p className="text-base font-medium text-soft">{title}</p>
      {children !== undefined && (
        <div className="mx-auto mt-1 max-w-md text-sm text-faint">{children}</div>
      )}
    </div>
  );
}

export function Waiting({ children }: { children: ReactNode }) {
  return (
    <p role="status" className="px-4 py-8 text-center text-sm text-faint">
      <span aria-hidden className="breathe mr-2 inline-block size-2 rounded-full bg-faint" />
      {children}
    </p>
  );
}

export function Mishap({ children, retry }: { children: ReactNode; retry?: () => void }) {
  return (
    <div
      role="alert"
      className="m-4 flex items-center justify-between gap-4 rounded-small bg-brick-wash px-3 py-2 text-sm text-brick"
    >
      <span>{children}</span>
      {retry !== undefined && <Button onClick={retry}>Try again</Button>}
    </div>
  );
}
