import Box from "@mui/material/Box";
import MuiLink from "@mui/material/Link";
import { useEffect, type ReactNode } from "react";
import { Link } from "wouter";

interface Props {
  title: string;
  /** The page that this one belongs to. */
  parent?: { name: string; to: string };
  /** Owner and state, in words, behind the title. */
  state?: ReactNode;
  /** One sentence on what the page is about. */
  about?: ReactNode;
  /** The page's actions, the main one last. */
  actions?: ReactNode;
  children?: ReactNode;
}

/** The head of a page: where it is, its name, its state and its actions; tabs or filters below. */
export function PageHeader({ title, parent, state, about, actions, children }: Props) {
  useEffect(() => {
    document.title = `${title} · Nightjar`;
  }, [title]);
  return (
    <Box component="header" sx={{ mb: 1.5 }}>
      {parent && <Box sx={{ mb: -0.25 }}><MuiLink component={Link} to={parent.to} color="text.secondary">{parent.name}</MuiLink> <Box component="span" aria-hidden sx={{ color: "text.secondary" }}>/</Box></Box>}
      <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, rowGap: 0.5, minHeight: 34 }}>
        <Box component="h1" sx={{ typography: "h1", m: 0, minWidth: 0, overflowWrap: "anywhere" }}>{title}</Box>
        {state}
        {about && <Box sx={{ color: "text.secondary", flex: "1 1 260px", minWidth: 0 }}>{about}</Box>}
        {actions && <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, ml: "auto", minWidth: 0, maxWidth: "100%" }}>{actions}</Box>}
      </Box>
      {children}
    </Box>
  );
}

/** A heading inside of a page. */
export function Heading({ children }: { children: ReactNode }) {
  return <Box component="h2" sx={{ typography: "h2", m: 0, mt: 3, mb: 1 }}>{children}</Box>;
}
