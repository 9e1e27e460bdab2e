import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import { useEffect, useState } from "react";
import { api, queries, words } from "../api/client";
import { askWho } from "../api/who";
import { Command } from "../kit/Command";

/** The address of the links that sign a browser in. */
export const signInPath = "/sign-in";

const code = location.pathname === signInPath ? location.hash.slice(1) : "";

/** Why a provider of identities signed nobody in, by the codes of the service. */
const problems: Record<string, string> = {
  expired: "The sign-in took too long, or began in another browser. Begin again.",
  denied: "The provider of identities did not let you in.",
  invalid: "What the provider of identities says of you does not hold. The activity log of the service says more.",
  "no-role": "You are known, and no group of yours has a role here. Ask an admin of this service.",
  "not-ready": "The provider of identities does not respond. Try again, or sign in with an access token.",
};
const problem = new URLSearchParams(location.search).get("problem") ?? "";

/** Goes on to where the person wanted to be, with the page as it is for them. */
function goOn(): void {
  if (location.pathname === signInPath) location.replace("/");
  else location.reload();
}

/** The link of the address is good once: its code is sent once, however often the page is drawn. */
let sent: Promise<void> | null = null;
const redeem = (): Promise<void> => (sent ??= (async () => {
  try {
    await api.POST("/api/v1/sessions", { body: { code } });
  } catch (e) {
    if (!(await askWho())) throw e; // a link that was used by this browser leads in again
  }
  goOn();
})());

/** What somebody sees who is not signed in. */
export default function SignIn() {
  const [token, setToken] = useState("");
  const [error, setError] = useState(problem && (problems[problem] ?? "Signing in did not work."));
  const { data: options } = queries.useQuery("get", "/api/v1/sign-in", {}, { staleTime: Infinity });
  const [isBusy, setBusy] = useState(code !== "");
  useEffect(() => {
    document.title = "Sign in · Nightjar";
    if (code) redeem().catch((e: unknown) => { setError(words(e)); setBusy(false); });
  }, []);
  const send = async () => {
    setBusy(true);
    setError("");
    try {
      await api.POST("/api/v1/sessions", { body: { token: token.trim() } });
      goOn();
    } catch (e) {
      setError(words(e));
      setBusy(false);
    }
  };
  return (
    <Box component="main" sx={{ minHeight: "100vh", display: "grid", placeItems: "center", p: 2, bgcolor: "background.default" }}>
      <Paper variant="outlined" sx={{ p: 3, width: 1, maxWidth: 460 }} data-test="sign-in">
        <Box sx={{ display: "flex", alignItems: "center", gap: 1.5, mb: 2 }}>
          <Box component="img" src="/mark.svg" alt="" sx={{ width: 32, height: 32 }} />
          <Box component="h1" sx={{ typography: "h1", m: 0 }}>Sign in to Nightjar</Box>
        </Box>
        {options?.signOn && (
          <>
            <Button variant="contained" component="a" href="/sign-on" disabled={isBusy} data-test="sign-on" sx={{ width: 1 }}>Continue with {options.signOn}</Button>
            <Box sx={{ my: 2, color: "text.secondary", textAlign: "center" }}>or</Box>
          </>
        )}
        <Box component="form" onSubmit={(e) => { e.preventDefault(); void send(); }} sx={{ display: "grid", gap: 1.5 }}>
          <TextField
            autoFocus type="password" label="Access token" value={token} onChange={(e) => setToken(e.target.value)} disabled={isBusy} autoComplete="current-password"
            helperText="One word that an admin gave you. It begins with nightjar-token-." slotProps={{ htmlInput: { "data-test": "token", maxLength: 200 } }}
          />
          {error && <Alert severity="error" data-test="sign-in-error">{error}</Alert>}
          <Button type="submit" variant={options?.signOn ? "outlined" : "contained"} disabled={isBusy || !token.trim()} data-test="sign-in-go">{isBusy ? "Signing in" : "Sign in"}</Button>
        </Box>
        <Box sx={{ mt: 3, color: "text.secondary" }}>On the machine of the service, its user needs no token. This command prints a link that signs you in:</Box>
        <Command line={`nightjar console${location.port === "7600" ? "" : ` --server ${location.origin}`}`} />
      </Paper>
    </Box>
  );
}
