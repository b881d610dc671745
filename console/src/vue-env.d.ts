declare module "*.css";
declare module "*.md";
declare module "*.json?page";
declare module "@fontsource-variable/*";
