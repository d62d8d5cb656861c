import { type FormEvent, useState } from "react";
import { useAuth } from "../auth.tsx";
import { Button, Input } from "../parts/ui.tsx";

export function SignInPage() {
  const { signIn } = useAuth();
  const [secret, setSecret] = useState("");
  const [fault, setFault] = useState<string>();
  const [isChecking, setIsChecking] = useState(false);

  async function submit(event: FormEvent) {
    event.preventDefault();
    setIsChecking(true);
    try {
      await signIn(secret.trim());
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
      setIsChecking(false);
    }
  }

  return (
    <div className="mx-auto w-full max-w-md px-4 py-[12vh]">
      <h1 className="text-xl font-semibold tracking-tight">Look into your sessions</h1>
      <p className="mt-1 text-soft">
        Sign in with the service key to see every session, or with a participant's token to see
        theirs.
      </p>
      <form onSubmit={submit} className="mt-6 flex flex-col gap-2">
        <label htmlFor="secret" className="text-sm font-medium">
          Service key or token
        </label>
        <Input
          id="secret"
          type="password"
          autoComplete="off"
          className="h-10 font-mono"
          value={secret}
          onChange={(event) => {
            setSecret(event.target.value);
            setFault(undefined);
          }}
          aria-invalid={fault !== undefined}
          aria-describedby="secret-hint"
        />
        <p
          id="secret-hint"
          role={fault === undefined ? undefined : "alert"}
          className={`min-h-10 text-sm ${fault === undefined ? "text-faint" : "text-brick"}`}
        >
          {fault ??
            "The key is in the file that rendel serve was started with. It is sent once and kept nowhere; a token stays in this page only."}
        </p>
        <Button
          type="submit"
          tone="main"
          className="h-10"
          disabled={secret.trim() === "" || isChecking}
        >
          {isChecking ? "Looking …" : "Sign in"}
        </Button>
      </form>
    </div>
  );
}
