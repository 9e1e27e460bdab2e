import Place from "@mui/icons-material/PlaceOutlined";
import Button from "@mui/material/Button";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useState } from "react";
import type { Mesh } from "../api/client";
import { useMesh } from "../api/live";
import { useAddress, usePath } from "../kit/address";

/** The pages that can show one site alone. */
const narrowed = ["/services", "/gateways", "/requests", "/fleet", "/effects", "/traces", "/activity"];

const sitesOf = (mesh: Mesh | null) => mesh?.sites ?? [];

/** Chooses the site that pages show; nothing where there are no sites, or where the page has nothing to narrow. */
export function SitePicker() {
  const sites = useMesh(sitesOf);
  const [path] = usePath();
  const [params, change] = useAddress();
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const site = params.get("site") ?? "";
  const choose = (name: string) => {
    setAnchor(null);
    change({ site: name || null });
  };
  if ((sites.length === 0 && !site) || (path !== "/" && !narrowed.some((p) => path.startsWith(p)))) return null;
  return (
    <>
      <Button
        color={site ? "warning" : "inherit"} variant="outlined" startIcon={<Place fontSize="small" />} onClick={(e) => setAnchor(e.currentTarget)}
        aria-haspopup="menu" data-test="site" sx={{ whiteSpace: "nowrap", ...(site ? {} : { borderColor: "divider" }) }}
      >
        {site || "All sites"}
      </Button>
      <Menu anchorEl={anchor} open={anchor !== null} onClose={() => setAnchor(null)}>
        {["", ...sites].map((name) => <MenuItem key={name} selected={name === site} onClick={() => choose(name)} data-test={`site-${name || "all"}`}>{name || "All sites"}</MenuItem>)}
      </Menu>
    </>
  );
}
