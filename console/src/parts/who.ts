/** Where the browser keeps what a person calls herself. */
export const whoKey = "nightjar.who";

/** Who does what is done from this browser. */
export const who = (): string => localStorage.getItem(whoKey) ?? "console";
