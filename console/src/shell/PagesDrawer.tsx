import Drawer from "@mui/material/Drawer";
import { SideNav } from "./SideNav";

/** The navigation on a narrow screen, over the page. */
export default function PagesDrawer({ onClose }: { onClose: () => void }) {
  return (
    <Drawer open onClose={onClose} transitionDuration={{ enter: 150, exit: 0 }}>
      <SideNav isWide onGo={onClose} />
    </Drawer>
  );
}
