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
import { publishedText } from "../parts/PublishedNotice";
import { Difference } from "./Difference";

const texts = (files: RuleFile[] | undefined): string => (files ?? []).map((f) => `# ${f.name}\n${f.text}`).join("\n");

interface Props {
  current: number;
  who: string;
  bundle: string;
  inForce: Revision | null;
  /** The revision that is compared with the rules in force; 0: none. */
  open: number;
  onOpen: (number: number) => void;
}

/** Published revisions, newest first; each can be compared with the rules in force, and restored. */
export function History({ current, who, bundle, inForce, open, onOpen }: Props) {
  const [list, setList] = useState<Revision[]>([]);
  const [next, setNext] = useState(0);
  const [opened, setOpened] = useState<Revision | null>(null);
  const [confirming, setConfirming] = useState(0);
  const [outcome, setOutcome] = useState("");
  const [error, setError] = useState("");
  useEffect(() => {
    let here = true;
    readRevisions(0, 10).then(
      (r) => { if (here) { setList(r.revisions); setNext(r.next ?? 0); setError(""); } },
      (e: unknown) => here && setError(e instanceof Error ? e.message : String(e)),
    );
    return () => {
      here = false;
    };
  }, [current]);
  useEffect(() => {
    if (!open) return;
    let here = true;
    readRevision(open).then((r) => here && setOpened(r), (e: unknown) => here && setError(e instanceof Error ? e.message : String(e)));
    return () => {
      here = false;
    };
  }, [open]);
  const more = async () => {
    const r = await readRevisions(next, 20);
    setList([...list, ...r.revisions]);
    setNext(r.next ?? 0);
  };
  const restoreRevision = async (n: number) => {
    setConfirming(0);
    try {
      const p = await restore(n, { author: who, message: `restore revision ${n}` }, current);
      setOutcome(p.unchanged ? publishedText(p) : `Revision ${n} was restored. ${publishedText(p)}`);
      setError("");
    } catch (e) {
      setError(e instanceof Error ? e.message : String(e));
    }
  };
  return (
    <section aria-label="History">
      <Typography variant="h2" sx={{ mb: 1 }}>History</Typography>
      {error && <Alert severity="error" sx={{ mb: 1 }}>{error}</Alert>}
      {outcome && <Alert severity="success" sx={{ mb: 1 }} data-test="restored" onClose={() => setOutcome("")}>{outcome}</Alert>}
      {list.length === 0 ? (
        <Typography sx={{ color: "text.secondary" }}>Nothing was published yet.</Typography>
      ) : (
        <TableContainer component={Paper} variant="outlined">
          <Table size="small">
            <TableHead>
              <TableRow>{["Revision", "Time", "Kind", "Bundle", "Author", "Message", ""].map((h, i) => <TableCell key={i}>{h}</TableCell>)}</TableRow>
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
                          {confirming === r.number ? (
                            <>
                              <Button size="small" variant="contained" onClick={() => void restoreRevision(r.number)} data-test={`restore-confirming-${r.number}`}>Yes, restore {r.number}</Button>
                              <Button size="small" onClick={() => setConfirming(0)}>No</Button>
                            </>
                          ) : (
                            <Button size="small" onClick={() => setConfirming(r.number)} data-test={`restore-${r.number}`}>Restore</Button>
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
      {next > 0 && <Button size="small" sx={{ mt: 1 }} onClick={() => void more()}>Show earlier</Button>}
    </section>
  );
}
