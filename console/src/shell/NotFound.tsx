import Link from "@mui/material/Link";
import Typography from "@mui/material/Typography";
import { Link as RouterLink } from "react-router";

export function NotFound() {
  return (
    <>
      <Typography variant="h1">Page not found</Typography>
      <Typography sx={{ mt: 1 }}>
        Go to the <Link component={RouterLink} to="/">mesh</Link>.
      </Typography>
    </>
  );
}
