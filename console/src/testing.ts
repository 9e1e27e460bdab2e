/** What the tests call of the console by itself. It is built into a file of its own, which no page loads. */
export { moveEnd, withWeight } from "./service/WeightBar";
export { looksOf } from "./kit/versions";
export { moment, percent, seconds, millis } from "./kit/format";
export { rangeOf } from "./kit/range";
export { placeOf } from "./kit/Place";
export { shellWord } from "./kit/Command";
export { planOf } from "./mesh/layout";
export { flowBySite } from "./mesh/bySite";
export { placeOf as cursorPlace } from "./rules/complete";
export { browserOf } from "./people/browser";
export { applied } from "./api/live";
