import MuiLink from "@mui/material/Link";
import { Link } from "react-router";
import { PageHeader } from "../kit/PageHeader";

export function NotFound() {
  return (
    <>
      <PageHeader title="Page not found" />
      Go to the <MuiLink component={Link} to="/">mesh</MuiLink>, or press Ctrl-K to search.
    </>
  );
}
