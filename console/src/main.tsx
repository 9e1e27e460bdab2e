import "@fontsource-variable/inter";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./shell/App";

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <BrowserRouter>
      <App />
    </BrowserRouter>,
  );
}
