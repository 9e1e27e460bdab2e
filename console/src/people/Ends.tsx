import { useQueryClient } from "@tanstack/react-query";
import { api, type AccessToken, type Session } from "../api/client";
import { Confirm } from "../kit/Confirm";

/** Revokes an access token, once that is confirmed. */
export function RevokeToken({ token, onClose }: { token: AccessToken; onClose: () => void }) {
  const client = useQueryClient();
  const go = async () => {
    await api.DELETE("/api/v1/access-tokens/{token}", { params: { path: { token: token.id } } });
    await client.invalidateQueries();
  };
  return (
    <Confirm act="Revoke" of={`the token of ${token.name}`} colour="error" onClose={onClose} onGo={go}>
      Whoever uses it is signed out at once, and what they follow ends. What they did stays in the records. It cannot be undone: make another token instead.
    </Confirm>
  );
}

/** Ends a session, once that is confirmed. */
export function EndSession({ session, onClose }: { session: Session; onClose: () => void }) {
  const client = useQueryClient();
  const go = async () => {
    await api.DELETE("/api/v1/sessions/{session}", { params: { path: { session: session.id } } });
    await client.invalidateQueries();
  };
  return (
    <Confirm act="End" of={session.isCurrent ? "this session" : `a session of ${session.name}`} colour="error" onClose={onClose} onGo={go}>
      {session.isCurrent ? "You are signed out here." : "The browser is signed out at once. Its token stays good: revoke that to keep them out."}
    </Confirm>
  );
}
