import Alert from "@mui/material/Alert";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableContainer from "@mui/material/TableContainer";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import { Fragment, useEffect, useState } from "react";
import { readRevision, readRevisions, restore, type Revision, type RuleFile } from "../api/client";
import { Difference } from "./Difference";

const texts = (files: RuleFile[] | undefined): string => (files ?? []).map((f) => `# ${f.name}\n${f.text}`).join("\n");

interface Props {
  current: number;
  who: string;
  bundle: string;
  inForce: Revision | null;
  /** The revision that is compared with what is in force; 0: none. */
  open: number;
  onOpen: (number: number) => void;
}

/** Published revisions, newest first: compared with what is in force, and restored. */
export function History({ current, who, bundle, inForce, open, onOpen }: Props) {
  const [list, setList] = useState<Revision[]>([]);
  const [next, setNext] = useState(0);
  const [opened, setOpened] = useState<Revision | null>(null);
  const [sure, setSure] = useState(0);
  const [outcome, setOutcome] = useState("");
  const [trouble, setTrouble] = useState("");
  useEffect(() => {
    let here = true;
    readRevisions(0, 10).then(
      (r) => { if (here) { setList(r.revisions); setNext(r.next ?? 0); setTrouble(""); } },
      (e: unknown) => here && setTrouble(e instanceof Error ? e.message : String(e)),
    );
    return () => {
      here = false;
    };
  }, [current]);
  useEffect(() => {
    if (!open) return;
    let here = true;
    readRevision(open).then((r) => here && setOpened(r), (e: unknown) => here && setTrouble(e instanceof Error ? e.message : String(e)));
    return () => {
      here = false;
    };
  }, [open]);
  const more = async () => {
    const r = await readRevisions(next, 20);
    setList([...list, ...r.revisions]);
    setNext(r.next ?? 0);
  };
  const bringBack = async (n: number) => {
    setSure(0);
    try {
      const p = await restore(n, { author: who, message: `restore revision ${n}` });
      setOutcome(`Revision ${n} is in force again, as revision ${p.revision}, in ${p.reached.inForce} of ${p.reached.connected} connected proxies.`);
      setTrouble("");
    } catch (e) {
      setTrouble(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <section aria-label="History">
      <Typography variant="h2" sx={{ mb: 1 }}>History</Typography>
      {trouble && <Alert severity="error" sx={{ mb: 1 }}>{trouble}</Alert>}
      {outcome && <Alert severity="success" sx={{ mb: 1 }} data-test="restored" onClose={() => setOutcome("")}>{outcome}</Alert>}
      {list.length === 0 ? (
        <Typography sx={{ color: "text.secondary" }}>Nothing was published yet.</Typography>
      ) : (
        <TableContainer component={Paper} variant="outlined">
          <Table size="small">
            <TableHead>
              <TableRow>{["Revision", "At", "Kind", "Bundle", "By", "Why", ""].map((h, i) => <TableCell key={i}>{h}</TableCell>)}</TableRow>
            </TableHead>
            <TableBody>
              {list.map((r) => (
                <Fragment key={r.number}>
                  <TableRow>
                    <TableCell sx={{ fontWeight: 650 }}>{r.number}{r.number === current && " (in force)"}</TableCell>
                    <TableCell title={r.at}>{new Date(r.at).toLocaleString()}</TableCell>
                    <TableCell>{r.kind}</TableCell>
                    <TableCell>{r.bundle || (r.kind === "release" ? "–" : "all")}</TableCell>
                    <TableCell>{r.author}</TableCell>
                    <TableCell>{r.message}</TableCell>
                    <TableCell align="right" sx={{ whiteSpace: "nowrap" }}>
                      {r.number !== current && (
                        <>
                          <Button size="small" onClick={() => onOpen(open === r.number ? 0 : r.number)} data-test={`compare-${r.number}`}>{open === r.number ? "Close" : "Compare"}</Button>
                          {sure === r.number ? (
                            <>
                              <Button size="small" variant="contained" onClick={() => void bringBack(r.number)} data-test={`restore-sure-${r.number}`}>Yes, restore {r.number}</Button>
                              <Button size="small" onClick={() => setSure(0)}>No</Button>
                            </>
                          ) : (
                            <Button size="small" onClick={() => setSure(r.number)} data-test={`restore-${r.number}`}>Restore</Button>
                          )}
                        </>
                      )}
                    </TableCell>
                  </TableRow>
                  {open === r.number && opened?.number === r.number && (
                    <TableRow>
                      <TableCell colSpan={7}>
                        <Difference left={texts(opened.bundles?.[bundle])} right={texts(inForce?.bundles?.[bundle])} leftName={`revision ${r.number}`} rightName={`in force, revision ${current}`} />
                      </TableCell>
                    </TableRow>
                  )}
                </Fragment>
              ))}
            </TableBody>
          </Table>
        </TableContainer>
      )}
      {next > 0 && <Button size="small" sx={{ mt: 1 }} onClick={() => void more()}>Earlier revisions</Button>}
    </section>
  );
}
