import { useState } from "react";
import { Link, Redirect, Route, Switch, useRoute } from "wouter";
import { AuthProvider, useAuth } from "./auth.tsx";
import { AnnouncementsPage } from "./pages/announcements.tsx";
import { AuditPage } from "./pages/audit.tsx";
import { JoinPage } from "./pages/join.tsx";
import { SessionPage } from "./pages/session.tsx";
import { SessionsPage } from "./pages/sessions.tsx";
import { SideBySidePage } from "./pages/side-by-side.tsx";
import { SignInPage } from "./pages/sign-in.tsx";
import { TablePage } from "./pages/table.tsx";
import { setTheme, type Theme, theme } from "./parts/theme.ts";
import { Button, Empty, Waiting } from "./parts/ui.tsx";

export function App() {
  return (
    <AuthProvider>
      <Frame />
    </AuthProvider>
  );
}

function Frame() {
  const { signed, isAsking } = useAuth();
  const [isJoining] = useRoute("/join");
  return (
    <div className="flex min-h-dvh flex-col">
      <TopBar />
      <main className="flex min-h-0 flex-1 flex-col">
        {isJoining ? (
          <JoinPage />
        ) : signed === undefined ? (
          isAsking ? (
            <Waiting>Asking the service …</Waiting>
          ) : (
            <SignInPage />
          )
        ) : (
          <Switch>
            <Route path="/">
              {signed.token === undefined ? (
                <SessionsPage />
              ) : (
                <Redirect to={`/sessions/${signed.token.session}`} />
              )}
            </Route>
            {signed.token === undefined && (
              <Route path="/announcements">
                <AnnouncementsPage />
              </Route>
            )}
            <Route path="/sessions/:id">{({ id }) => <SessionPage key={id} id={id} />}</Route>
            <Route path="/sessions/:id/table">{({ id }) => <TablePage key={id} id={id} />}</Route>
            <Route path="/sessions/:id/audit">{({ id }) => <AuditPage key={id} id={id} />}</Route>
            <Route path="/sessions/:id/side-by-side">
              {({ id }) => <SideBySidePage key={id} id={id} />}
            </Route>
            <Route>
              <Empty title="There is no such page">
                <Link href="/" className="text-leaf underline">
                  To the sessions
                </Link>
              </Empty>
            </Route>
          </Switch>
        )}
      </main>
    </div>
  );
}

function TopBar() {
  const { signed, signOut } = useAuth();
  return (
    <header className="flex h-12 items-center gap-4 border-b border-rule bg-sheet px-4">
      <Link href="/" className="flex items-center gap-2 text-base font-semibold tracking-tight">
        <img src="/mark.svg" alt="" className="size-6" />
        Rendel
      </Link>
      {signed !== undefined && signed.token === undefined && (
        <nav className="flex items-center gap-3 text-sm">
          <Link href="/announcements" className="text-soft hover:text-ink hover:underline">
            Announcements
          </Link>
        </nav>
      )}
      <div className="ml-auto flex items-center gap-1">
        {signed !== undefined && (
          <>
            <span className="hidden pr-2 text-xs text-faint sm:inline">
              {signed.token === undefined
                ? "with the service key"
                : `as ${signed.token.name}, ${signed.token.role}`}
            </span>
            <Button tone="quiet" onClick={signOut}>
              Sign out
            </Button>
          </>
        )}
        <ThemeButton />
      </div>
    </header>
  );
}

const NEXT: Record<Theme, Theme> = { system: "light", light: "dark", dark: "system" };
const SIGN: Record<Theme, string> = { system: "◐", light: "○", dark: "●" };

function ThemeButton() {
  const [shown, setShown] = useState(theme);
  const next = NEXT[shown];
  const change = () => {
    setTheme(next);
    setShown(next);
  };
  return (
    <Button
      tone="quiet"
      onClick={change}
      aria-label={`Colours: ${shown}. Change to ${next}`}
      title={`Colours: ${shown}`}
    >
      {SIGN[shown]}
    </Button>
  );
}
