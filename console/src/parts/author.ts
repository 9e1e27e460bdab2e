/** Key in the browser's storage for the name of the person. */
export const authorKey = "nightjar.who";

/** The name under which this browser acts. */
export const author = (): string => localStorage.getItem(authorKey) ?? "console";
