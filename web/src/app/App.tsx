import { QueryClient, QueryClientProvider, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect } from "react";
import { BrowserRouter, Route, Routes } from "react-router";
import { House } from "../features/house";
import { Rack } from "../features/rack";
import { client, ok } from "../shared/api/client";
import { Crash } from "./Crash";
import { Notices } from "./Notices";
import { Overlays } from "./Overlays";
import { SignIn } from "./SignIn";
import { applyTheme } from "./theme";

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
  useReadyBench(Boolean(me.data?.person));
  if (me.isPending) return <p className="dim p-8">Bite Bench is opening …</p>;
  if (!me.data?.person) return <SignIn />;
  return (
    <>
      <Overlays />
      <Suspense fallback={<p className="dim p-8">The bench is opening …</p>}>
        <Routes>
          <Route path="/" element={<Rack />} />
          <Route path="/case/:number" element={<Bench />} />
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
