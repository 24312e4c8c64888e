/// <reference types="vite/client" />
declare module "@fontsource-variable/source-code-pro";
declare module "@fontsource-variable/source-sans-3";
