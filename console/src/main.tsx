import "@fontsource-variable/inter";
import { createRoot } from "react-dom/client";
import { Router } from "wouter";
import { followMesh } from "./api/live";
import { askWho, signedOut } from "./api/who";
import { usePath } from "./kit/address";
import { App } from "./shell/App";

if (location.pathname === "/sign-in") signedOut();
else {
  void askWho();
  followMesh(); // for as long as the console is open
}

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <Router hook={usePath}>
      <App />
    </Router>,
  );
}
