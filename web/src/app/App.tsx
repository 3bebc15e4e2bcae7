import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect } from "react";
import { BrowserRouter, Route, Routes } from "react-router";
import { House } from "../features/house";
import { Rack } from "../features/rack";
import { client, ok } from "../shared/api/client";
import { useSession } from "../shared/api/session";
import { applyTheme } from "../shared/theme";
import { Asking } from "./Asking";
import { Crash } from "./Crash";
import { Notices } from "./Notices";
import { Overlays } from "./Overlays";
import { SignInAgain, SignInPage } from "./SignIn";

const PlateRoom = lazy(() => import("../features/plates"));
const Proof = lazy(() => import("../features/proof"));
const Bench = lazy(() => import("../features/bench"));

const queries = new QueryClient({
  defaultOptions: { queries: { retry: 2, staleTime: 2000, refetchOnWindowFocus: false }, mutations: { retry: false } },
});

/** The bench is opened next: have it loaded and its canvas ready while nobody waits. */
function useReadyBench(signedIn: boolean) {
  useEffect(() => {
    if (!signedIn) return;
    const soon = setTimeout(() => {
      // Where 3D is missing the bench itself says so.
      import("../features/bench").then((bench) => bench.prepareStage()).catch(() => {});
    }, 250);
    return () => clearTimeout(soon);
  }, [signedIn]);
}

function Rooms() {
  const me = useQuery({ queryKey: ["me"], queryFn: () => ok(client.GET("/api/me")), staleTime: 60_000, retry: 20 });
  const person = me.data?.person?.id ?? null;
  useReadyBench(person !== null);
  useEffect(() => {
    if (person !== null && !useSession.getState().ended) useSession.setState({ person });
  }, [person]);
  const was = useSession((s) => s.person);
  const lost = me.isSuccess && person === null && was !== null;
  useEffect(() => {
    if (lost) useSession.getState().end();
  }, [lost]);
  if (me.isPending) return <p className="dim p-8">Bite Bench is opening …</p>;
  if (!me.data?.person && !lost) return <SignInPage first={me.data?.first ?? false} />;
  return (
    <>
      <Overlays />
      <Asking />
      <SignInAgain />
      <Suspense fallback={<p className="dim p-8">The bench is opening …</p>}>
        <Routes>
          <Route path="/" element={<Rack />} />
          <Route path="/case/:number" element={<Bench />} />
          <Route path="/case/:number/proof" element={<Proof />} />
          <Route path="/plates" element={<PlateRoom />} />
          <Route path="/plates/:id" element={<PlateRoom />} />
          <Route path="/house" element={<House />} />
          <Route path="*" element={<Rack />} />
        </Routes>
      </Suspense>
    </>
  );
}

export function App() {
  useEffect(applyTheme, []);
  return (
    <Crash>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <Rooms />
          <Notices />
        </BrowserRouter>
      </QueryClientProvider>
    </Crash>
  );
}
