import { Button, Center, Spinner, Text, VStack } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, Navigate, Route, Routes, useNavigate, useParams } from "react-router";

import { api, unwrap } from "./api/client";
import { PlanProvider, WithRecords } from "./api/plan";
import { Shell } from "./shell/Shell";
import { Login } from "./views/Login";
import { PlanList } from "./views/PlanList";
import { ReadHosts } from "./views/ReadHosts";
import { VIEWS, type View } from "./views/registry";

export function App() {
  const session = useQuery({ queryKey: ["session"], queryFn: async () => unwrap(await api.GET("/api/session")) });
  if (session.isPending) return <Waiting what="Asking who you are" />;
  if (session.error) return <Failed why={session.error.message} />;
  if (!session.data.user) return <Login />;
  const user = session.data.user;
  return (
    <Routes>
      <Route path="/" element={<Navigate to="/plans" replace />} />
      <Route path="/plans" element={<PlanList user={user} />} />
      <Route path="/plans/read" element={<ReadHosts user={user} />} />
      <Route path="/plans/:id/at/:at/*" element={<OnePlan user={user} />} />
      <Route path="/plans/:id/*" element={<OnePlan user={user} />} />
      <Route path="*" element={<Failed why="There is no page at this address." />} />
    </Routes>
  );
}

function OnePlan({ user }: { user: string }) {
  const { id, at } = useParams();
  if (at !== undefined && !/^\d{1,9}$/.test(at)) return <Failed why="There is no such revision." />;
  return (
    <PlanProvider
      key={`${id} ${at ?? ""}`}
      id={id!}
      at={at === undefined ? undefined : Number(at)}
      user={user}
      waiting={<Waiting what="Reading the plan" />}
      failed={(why) => <Failed why={why} />}
    >
      <Routes>
        <Route element={<Shell user={user} />}>
          <Route index element={<Navigate to={VIEWS[0]!.address} replace />} />
          {VIEWS.map((view) => (
            <Route key={view.address} path={view.address} element={<OneView key={view.address} view={view} />} />
          ))}
          <Route path="*" element={<Failed why="There is no such view." />} />
        </Route>
      </Routes>
    </PlanProvider>
  );
}

function OneView({ view: { records, load, loaded, Ahead } }: { view: View }) {
  const [Shown, setShown] = useState(loaded);
  const [failed, setFailed] = useState(false);
  // Beside the records, not after them.
  useEffect(() => {
    let left = false;
    void load().then(
      (made) => !left && setShown(() => made),
      () => !left && setFailed(true),
    );
    return () => {
      left = true;
    };
  }, [load]);
  if (failed) return <Failed why="This view didn’t come from the server. Load the page again." />;
  // No Suspense: it holds back for a moment what comes soon after something stood in for it.
  const shown = Shown ? (
    <>
      <Shown />
      <OthersToCome />
    </>
  ) : (
    <Waiting what="Opening the view" />
  );
  if (!records) return shown;
  return (
    <WithRecords
      waiting={(done, all) => (
        <>
          {Ahead && <Ahead />}
          <Waiting what="Reading the plan" done={done} all={all} />
        </>
      )}
    >
      {shown}
    </WithRecords>
  );
}

/** When the first view has stood for this long, the code of the others comes, so that they open at once. */
const AT_REST = 1500;

function OthersToCome() {
  useEffect(() => {
    const asked = setTimeout(() => void Promise.allSettled(VIEWS.map(({ load }) => load())), AT_REST);
    return () => clearTimeout(asked);
  }, []);
  return null;
}

export function Waiting({ what, done = 0, all = 0 }: { what: string; done?: number; all?: number }) {
  return (
    <Center h="100%" role="status">
      <VStack>
        <Spinner color="copper.fg" />
        <Text color="fg.muted">
          {what}
          {all > 2000 ? `: ${done.toLocaleString("en")} of ${all.toLocaleString("en")}` : "…"}
        </Text>
        {all > 2000 && (
          <Link className="plain-link" to="/plans">
            Leave it, back to the plans
          </Link>
        )}
      </VStack>
    </Center>
  );
}

function Failed({ why }: { why: string }) {
  const navigate = useNavigate();
  return (
    <Center h="100%">
      <VStack role="alert" maxW="md" textAlign="center">
        <Text fontSize="lg" fontWeight="600">
          This didn’t work
        </Text>
        <Text>{why}</Text>
        <Button variant="outline" onClick={() => void navigate("/plans")}>
          To the plans
        </Button>
      </VStack>
    </Center>
  );
}
