import { useCallback } from "react";
import { useSigned } from "../auth.tsx";
import { useRead } from "../parts/use-read.ts";

/**
 * A token for a pane: one's own where a participant is signed in, else one issued for this name and
 * role.
 */
export function useToken(
  session: string,
  name: string,
  role: string | undefined,
): { token: string | undefined; error: Error | undefined } {
  const signed = useSigned();
  const read = useCallback(async () => {
    if (signed.token !== undefined) return { for: "", token: signed.token.token };
    if (role === undefined) return undefined;
    const token = await signed.api.token({ session, sub: name.toLowerCase(), name, role });
    return { for: role, token };
  }, [signed, session, name, role]);
  const { value, error } = useRead(read);
  const isCurrent = value !== undefined && (value.for === "" || value.for === role);
  return { token: isCurrent ? value.token : undefined, error };
}
