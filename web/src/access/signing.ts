/** Whether somebody has to sign in before the server goes on; what was asked meanwhile waits and is then asked again. */

let waiting: { promise: Promise<void>; resolve: () => void } | null = null;
const watchers = new Set<() => void>();

const tell = () => watchers.forEach((w) => w());

export const isAsked = () => waiting !== null;

export function watchSigning(watcher: () => void) {
  watchers.add(watcher);
  return () => void watchers.delete(watcher);
}

/** Ask a person to sign in; done when somebody has. */
export function askToSignIn(): Promise<void> {
  if (!waiting) {
    let resolve = () => {};
    const promise = new Promise<void>((done) => (resolve = done));
    waiting = { promise, resolve };
    tell();
  }
  return waiting.promise;
}

export function signedIn() {
  const done = waiting?.resolve;
  waiting = null;
  done?.();
  tell();
}
