import { Component, type ReactNode } from "react";

/** The last net: a page that breaks says so and offers the way back. Nothing saved is touched. */
export class Crash extends Component<{ children: ReactNode }, { message: string | null }> {
  override state = { message: null as string | null };

  static getDerivedStateFromError(error: unknown) {
    return { message: error instanceof Error ? error.message : String(error) };
  }

  override render() {
    if (this.state.message === null) return this.props.children;
    return (
      <main className="mx-auto max-w-xl p-10">
        <h1 className="text-xl font-bold">This page broke down</h1>
        <p className="my-3">What you had accepted and set is kept on the server. Load the page again to go on.</p>
        <p className="dim mb-4 text-sm">{this.state.message}</p>
        <button type="button" className="btn btn-primary" onClick={() => location.reload()}>
          Load again
        </button>
      </main>
    );
  }
}
