import Alert from "@mui/material/Alert";
import Button from "@mui/material/Button";
import { useState } from "react";
import { api, take, type Figures, type Service } from "../api/client";
import { Confirm } from "../kit/Confirm";
import { DataTable, figure, type Column } from "../kit/DataTable";
import { For } from "../kit/For";
import { millis, percent, plural, rate } from "../kit/format";

interface Row {
  id: string;
  version: string;
  site: string;
  address: string;
  state: string;
  /** Calling proxies that have it sidelined. */
  sidelined: number;
  share: number | null;
  figures: Figures;
}

const columns = (letBack: (id: string) => void): Column<Row>[] => [
  { field: "version", headerName: "Version", width: 80 },
  { field: "id", headerName: "Instance", flex: 1, minWidth: 160 },
  { field: "site", headerName: "Site", width: 110 },
  { field: "address", headerName: "Address", width: 138 },
  { field: "state", headerName: "State", width: 210, cellClassName: (p) => (p.row.state === "in use" ? "" : "bad") },
  {
    field: "letBack", headerName: "Action", width: 90, sortable: false, filterable: false, disableExport: true,
    renderCell: ({ row }) => row.sidelined > 0 && <For who="editor"><Button onClick={() => letBack(row.id)} data-test={`let-back-${row.id}`} sx={{ minHeight: 24, py: 0 }}>Let back</Button></For>,
  },
  figure("share", { name: "Share", of: (r) => r.share, write: percent }),
  figure("rps", { name: "Req/s", width: 84, of: (r) => r.figures.rps, write: rate }),
  figure("success", { name: "Success", width: 82, of: (r) => r.figures.success, write: percent, isBad: (r) => (r.figures.success ?? 1) < 0.99 }),
  figure("workload", { name: "Workload success", width: 140, of: (r) => r.figures.workload?.success, write: percent }),
  figure("p95", { name: "p95", width: 84, of: (r) => r.figures.p95MS || null, write: millis }),
  figure("workloadP95", { name: "Workload p95", width: 118, of: (r) => r.figures.workload?.p95MS || null, write: millis }),
];

/** How many calling proxies say something of each instance. */
function count(service: Service, of: (v: Service["guards"][number]["versions"] & object) => string[]): Map<string, number> {
  const sums = new Map<string, number>();
  for (const id of service.guards.flatMap((c) => (c.versions ? of(c.versions) : []))) sums.set(id, (sums.get(id) ?? 0) + 1);
  return sums;
}

/** The instances of a service with their health. One that is sidelined can be let back. */
export function Instances({ service }: { service: Service }) {
  const [asked, setAsked] = useState("");
  const [done, setDone] = useState("");
  const out = count(service, (list) => list.flatMap((v) => (v.sidelined ?? []).map((o) => o.instance)));
  const lost = count(service, (list) => list.flatMap((v) => (v.unreachable ?? []).map((o) => o.instance)));
  const proxies = service.guards.length;
  const rows = service.versions.flatMap((v) =>
    v.instances.map((i): Row => {
      const sidelined = out.get(i.id) ?? 0;
      const unreachable = lost.get(i.id);
      const state = [
        unreachable && `▼ unreachable from ${unreachable} of ${proxies}`, i.unreachable && "▼ workload unreachable", i.unhealthy && `▼ unhealthy: ${i.unhealthy}`,
        sidelined > 0 && `⊘ sidelined in ${sidelined} of ${proxies}`, i.isUnconfirmed && "▲ unconfirmed",
      ].filter(Boolean).join("; ");
      return { id: i.id, version: v.name, site: i.site ?? "", address: i.address, state: state || "in use", sidelined, share: i.share, figures: i.figures };
    }),
  );
  const letBack = async () => {
    const path = { service: service.name, instance: asked };
    const result = await take(api.POST("/api/v1/services/{service}/instances/{instance}/let-back", { params: { path } }));
    setDone(`${plural(result.proxies, "proxy sends", "proxies send")} requests to ${asked} again.`);
  };
  return (
    <>
      {done && <Alert severity="success" sx={{ mb: 1 }} onClose={() => setDone("")} data-test="let-back">{done}</Alert>}
      <DataTable name={`instances of ${service.name}`} columns={columns(setAsked)} rows={rows} idOf={(r) => r.id} empty="No instances" />
      <Confirm act={asked ? "Let back" : ""} of={asked} onClose={() => setAsked("")} onGo={letBack}>
        Every proxy that has sidelined this instance sends requests to it again, before its time is over. If it still fails, it is sidelined again.
      </Confirm>
    </>
  );
}
