import Clock from "@mui/icons-material/Schedule";
import Button from "@mui/material/Button";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useState } from "react";
import { useAddress } from "../kit/address";
import { spanNames, useRange, type Span } from "../kit/range";

/** Chooses the time that all pages show. */
export function RangePicker() {
  const range = useRange();
  const [, change] = useAddress();
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  const choose = (span: Span | null) => {
    change({ range: span, at: null });
    setAnchor(null);
  };
  return (
    <>
      <Button
        color={range.at || range.span ? "warning" : "inherit"} variant="outlined" startIcon={<Clock fontSize="small" />} onClick={(e) => setAnchor(e.currentTarget)}
        aria-haspopup="menu" data-test="range" sx={range.at || range.span ? {} : { borderColor: "divider" }}
      >
        {range.label}
      </Button>
      <Menu open={anchor !== null} anchorEl={anchor} onClose={() => setAnchor(null)} transitionDuration={0}>
        <MenuItem selected={!range.at && !range.span} onClick={() => choose(null)}>Now (figures of the last 10 seconds)</MenuItem>
        {Object.entries(spanNames).map(([span, name]) => (
          <MenuItem key={span} selected={range.span === span} onClick={() => choose(span as Span)}>{name}</MenuItem>
        ))}
      </Menu>
    </>
  );
}
