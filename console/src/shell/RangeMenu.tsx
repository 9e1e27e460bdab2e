import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import { useAddress } from "../kit/address";
import { spanNames, useRange, type Span } from "../kit/range";

/** The times to choose from. */
export default function RangeMenu({ anchor, onClose }: { anchor: HTMLElement; onClose: () => void }) {
  const range = useRange();
  const [, change] = useAddress();
  const choose = (span: Span | null) => {
    change({ range: span, at: null });
    onClose();
  };
  return (
    <Menu open anchorEl={anchor} onClose={onClose} transitionDuration={0}>
      <MenuItem selected={!range.at && !range.span} onClick={() => choose(null)}>Now (figures of the last 10 seconds)</MenuItem>
      {Object.entries(spanNames).map(([span, name]) => (
        <MenuItem key={span} selected={range.span === span} onClick={() => choose(span as Span)}>{name}</MenuItem>
      ))}
    </Menu>
  );
}
