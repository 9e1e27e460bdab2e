import Close from "@mui/icons-material/Close";
import Box from "@mui/material/Box";
import IconButton from "@mui/material/IconButton";
import { createContext, useContext, useEffect, type ReactNode } from "react";
import { createPortal } from "react-dom";

/** The element of the frame in which a drawer is shown: beside the page or, on a narrow screen, over it. */
export const DrawerPlace = createContext<HTMLElement | null>(null);

interface Props {
  title: ReactNode;
  onClose: () => void;
  children: ReactNode;
  test?: string;
  /** In pixels. */
  width?: number;
}

/** Details of what was picked, to the right of the page. Escape closes it. */
export function Drawer({ title, onClose, children, test = "drawer", width = 440 }: Props) {
  const place = useContext(DrawerPlace);
  useEffect(() => {
    const key = (e: KeyboardEvent) => {
      if (e.key === "Escape" && !e.defaultPrevented && !document.querySelector("[role=dialog]")) onClose();
    };
    document.addEventListener("keydown", key);
    return () => document.removeEventListener("keydown", key);
  }, [onClose]);
  if (!place) return null;
  return createPortal(
    <Box
      component="section" aria-label="Details" tabIndex={0} data-test={test}
      sx={{
        bgcolor: "background.paper", borderLeft: 1, borderColor: "divider", overflowY: "auto", p: 2, zIndex: 1100,
        width: { xs: "100%", lg: width }, height: { xs: "auto", lg: "calc(100vh - 48px)" }, position: { xs: "fixed", lg: "sticky" }, top: 48, bottom: { xs: 0, lg: "auto" }, right: 0,
      }}
    >
      <Box sx={{ display: "flex", alignItems: "center", gap: 1, mb: 1 }}>
        <Box component="h2" sx={{ typography: "h2", m: 0, flex: 1, minWidth: 0, overflowWrap: "anywhere" }}>{title}</Box>
        <IconButton size="small" onClick={onClose} aria-label="Close"><Close fontSize="small" /></IconButton>
      </Box>
      {children}
    </Box>,
    place,
  );
}
