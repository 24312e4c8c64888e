import babel from "@rolldown/plugin-babel";
import react, { reactCompilerPreset } from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  // The compiler lets a part of the screen stand as it is while nothing that it shows has changed.
  plugins: [react(), babel({ presets: [reactCompilerPreset()] })],
  html: { cspNonce: "--nonce--" }, // the server puts that of each answer in its place
  build: { chunkSizeWarningLimit: 2500 },
  test: { testTimeout: 60_000 }, // a machine of two cores that does other things too
  server: { proxy: { "/api": "http://127.0.0.1:8040" } },
});
