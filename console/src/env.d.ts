/// <reference types="vite/client" />
declare module '@fontsource-variable/recursive/mono.css'
