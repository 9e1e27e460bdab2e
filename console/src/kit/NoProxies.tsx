import { EmptyState } from "./EmptyState";

/** An empty mesh: how to put the first proxy beside a workload. */
export function NoProxies() {
  return (
    <EmptyState
      title="No proxy has joined yet"
      commands={["nightjar proxy --service kiosk --version v1 --app 127.0.0.1:8080", "nightjar join-token create --service kiosk", "nightjar demo --addr 127.0.0.1:7700"]}
    >
      Nightjar sees and directs requests through a proxy beside each workload. On this machine, the first command starts one beside a workload at 127.0.0.1:8080. A proxy of another machine needs a token: the second command makes one.
      The third starts the sample mesh, to look around first.
    </EmptyState>
  );
}
