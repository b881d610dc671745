// Where calls go: nowhere, until a test says what answers.
const nowhere: typeof fetch = () => Promise.reject(new TypeError("Nothing answers here."));
export const forward = { to: nowhere, reset: () => void (forward.to = nowhere) };
