import { createContext, type ReactNode, useContext, useMemo, useState } from "react";
import { Api } from "./api.ts";

/** Who is signed in: the backend with the service key, or one participant of one session with a token. */
export type Signed = { api: Api; token?: { session: string; name: string; role: string } };

type Auth = { signed: Signed | undefined; signIn: (secret: string) => void; signOut: () => void };

const KEY = "rendel.signed";
const Context = createContext<Auth | undefined>(undefined);

/** Kept for this tab only, and gone when it closes. */
export function AuthProvider({ children }: { children: ReactNode }) {
  const [secret, setSecret] = useState(() => sessionStorage.getItem(KEY) ?? undefined);
  const auth = useMemo<Auth>(
    () => ({
      signed: secret === undefined ? undefined : { api: new Api(secret), token: claims(secret) },
      signIn: (next) => {
        sessionStorage.setItem(KEY, next);
        setSecret(next);
      },
      signOut: () => {
        sessionStorage.removeItem(KEY);
        setSecret(undefined);
      },
    }),
    [secret],
  );
  return <Context value={auth}>{children}</Context>;
}

export function useAuth(): Auth {
  const auth = useContext(Context);
  if (auth === undefined) throw new Error("useAuth is for what stands inside AuthProvider");
  return auth;
}

/** Who is signed in, on a page that only they reach. */
export function useSigned(): Signed {
  const { signed } = useAuth();
  if (signed === undefined) throw new Error("useSigned is for pages behind the sign-in");
  return signed;
}

/** What a token says of its bearer; `undefined` for a service key. Only the service can tell whether it is genuine. */
export function claims(secret: string): Signed["token"] {
  const body = secret.split(".")[1];
  if (secret.split(".").length !== 3 || body === undefined) return undefined;
  try {
    const read = JSON.parse(atob(body.replaceAll("-", "+").replaceAll("_", "/")));
    return { session: String(read.session), name: String(read.name ?? read.sub), role: String(read.role) };
  } catch {
    return undefined;
  }
}
