import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";
import { Api, consoleSeat, signInWithKey } from "./api.ts";

/**
 * Who is signed in: the backend by the console's cookie, or one participant of one session with a
 * token.
 */
export type Signed = {
  api: Api;
  token?: { session: string; name: string; role: string; token: string };
};

type Auth = {
  signed: Signed | undefined;
  /** Whether the service is asked still. */
  isAsking: boolean;
  signIn: (secret: string) => Promise<void>;
  signOut: () => void;
};

const Context = createContext<Auth | undefined>(undefined);

/**
 * The service key is sent once and kept nowhere: a cookie that no page can read stands for it. A
 * participant's token stays in this page's memory and is gone with it.
 */
export function AuthProvider({ children }: { children: ReactNode }) {
  const [signed, setSigned] = useState<Signed>();
  const [isAsking, setIsAsking] = useState(true);
  useEffect(() => {
    let isCurrent = true;
    consoleSeat()
      .then((secret) => {
        if (isCurrent && secret !== undefined)
          setSigned((now) => now ?? { api: new Api({ secret }) });
      })
      .catch(() => undefined)
      .finally(() => setIsAsking(false));
    return () => {
      isCurrent = false;
    };
  }, []);
  const auth = useMemo<Auth>(
    () => ({
      signed,
      isAsking,
      signIn: async (given) => {
        const token = claims(given);
        if (token === undefined) {
          setSigned({ api: new Api({ secret: await signInWithKey(given) }) });
          return;
        }
        const api = new Api({ bearer: given });
        await api.charter(token.session);
        setSigned({ api, token: { ...token, token: given } });
      },
      signOut: () => {
        if (signed?.token === undefined) void signed?.api.signOut().catch(() => undefined);
        setSigned(undefined);
      },
    }),
    [signed, isAsking],
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

/**
 * What a token says of its bearer; `undefined` for a service key. Only the service can tell whether
 * it is genuine.
 */
export function claims(
  secret: string,
): { session: string; name: string; role: string } | undefined {
  const body = secret.split(".")[1];
  if (secret.split(".").length !== 3 || body === undefined) return undefined;
  try {
    const bytes = Uint8Array.from(atob(body.replaceAll("-", "+").replaceAll("_", "/")), (one) =>
      one.charCodeAt(0),
    );
    const read = JSON.parse(new TextDecoder().decode(bytes));
    return {
      session: String(read.session),
      name: String(read.name ?? read.sub),
      role: String(read.role),
    };
  } catch {
    return undefined;
  }
}
