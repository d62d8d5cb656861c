import { type FormEvent, useState } from "react";
import { useLocation } from "wouter";
import { acceptInvitation } from "../api.ts";
import { useAuth } from "../auth.tsx";
import { Button, Empty, Input } from "../parts/ui.tsx";

/**
 * Where an invitation leads. Its code stands behind the `#` of the address, which no server gets to
 * see.
 */
export function JoinPage() {
  const { signIn } = useAuth();
  const [, go] = useLocation();
  const [code] = useState(() => window.location.hash.slice(1));
  const [name, setName] = useState("");
  const [fault, setFault] = useState<string>();
  const [isEntering, setIsEntering] = useState(false);

  async function submit(event: FormEvent) {
    event.preventDefault();
    setIsEntering(true);
    try {
      const { session, token } = await acceptInvitation(code, name.trim());
      await signIn(token);
      go(`/sessions/${session}`, { replace: true });
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
      setIsEntering(false);
    }
  }

  if (code === "")
    return (
      <Empty title="This is no invitation">Its link has a code at its end. Ask for it again.</Empty>
    );
  return (
    <div className="mx-auto w-full max-w-md px-4 py-[12vh]">
      <h1 className="text-xl font-semibold tracking-tight">You are invited</h1>
      <p className="mt-1 text-soft">Choose the name that the others will see, and take part.</p>
      <form onSubmit={submit} className="mt-6 flex flex-col gap-2">
        <label htmlFor="name" className="text-sm font-medium">
          Name
        </label>
        <Input
          id="name"
          autoComplete="nickname"
          maxLength={128}
          className="h-10"
          placeholder="left empty, you get a made-up one"
          value={name}
          onChange={(event) => setName(event.target.value)}
          aria-describedby="name-hint"
        />
        <p
          id="name-hint"
          role={fault === undefined ? undefined : "alert"}
          className={`min-h-10 text-sm ${fault === undefined ? "text-faint" : "text-brick"}`}
        >
          {fault ?? "The invitation is used up by one when you take part."}
        </p>
        <Button type="submit" tone="main" className="h-10" disabled={isEntering}>
          {isEntering ? "Entering …" : "Take part"}
        </Button>
      </form>
    </div>
  );
}
