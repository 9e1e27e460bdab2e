import "@fontsource-variable/inter";
import { createRoot } from "react-dom/client";
import { Router } from "wouter";
import { usePath } from "./kit/address";
import { App } from "./shell/App";

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <Router hook={usePath}>
      <App />
    </Router>,
  );
}
