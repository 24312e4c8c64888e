import "@fontsource-variable/source-code-pro";
import "@fontsource-variable/source-sans-3";
import "@mantine/core/styles.css";
import "@mantine/spotlight/styles.css";
import "./app.css";
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { setNonce } from "get-nonce";
import { createRoot } from "react-dom/client";
import { Route, Switch } from "wouter";
import { People } from "./access/People";
import { SignIn } from "./access/SignIn";
import { JobList } from "./jobs/JobList";
import { Shell } from "./job/Shell";
import { theme } from "./theme";

const client = new QueryClient({
  defaultOptions: { queries: { retry: 1, staleTime: 30_000, refetchOnWindowFocus: false } },
});

// Styles that are made on the way carry the nonce of the page, or the browser leaves them out.
const nonce = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? "";
setNonce(nonce);

createRoot(document.getElementById("root")!).render(
  <MantineProvider theme={theme} defaultColorScheme="light" getStyleNonce={() => nonce}>
    <QueryClientProvider client={client}>
      <Switch>
        <Route path="/jobs/:id/:stage?">{(p) => <Shell key={p.id} id={p.id} stage={p.stage ?? "part"} />}</Route>
        <Route path="/people">
          <People />
        </Route>
        <Route>
          <JobList />
        </Route>
      </Switch>
      <SignIn />
    </QueryClientProvider>
  </MantineProvider>,
);
