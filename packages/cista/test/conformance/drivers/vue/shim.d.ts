declare module "*.vue" {
  const component: import("vue").DefineComponent<any, any, any>;
  export default component;
}
