import MuiLink from "@mui/material/Link";
import { Link } from "wouter";
import { PageHeader } from "../kit/PageHeader";

export default function NotFound() {
  return (
    <>
      <PageHeader title="Page not found" />
      Go to the <MuiLink component={Link} to="/">mesh</MuiLink>, or press Ctrl-K to search.
    </>
  );
}
