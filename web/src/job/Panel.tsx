import { Button, Loader } from "@mantine/core";
import { Component, Suspense, type ReactNode } from "react";

/** One panel of the screen: waits for its code, and where it fails leaves the others alive and says so in its place. */
export class Panel extends Component<{ name: string; children: ReactNode }, { error: Error | null }> {
  state = { error: null as Error | null };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  render() {
    const { error } = this.state;
    if (!error)
      return (
        <Suspense
          fallback={
            <div className="empty">
              <Loader size="sm" />
            </div>
          }
        >
          {this.props.children}
        </Suspense>
      );
    return (
      <div role="alert" style={{ padding: 16 }}>
        <p className="fault">
          The {this.props.name} failed: {error.message}
        </p>
        <p>Your job is kept at the server; the other panels go on.</p>
        <Button size="compact-sm" variant="default" onClick={() => this.setState({ error: null })}>
          Show it again
        </Button>
      </div>
    );
  }
}
