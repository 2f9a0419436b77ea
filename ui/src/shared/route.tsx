import { type ComponentProps, forwardRef, useCallback } from "react";
import {
  type NavigateOptions,
  Link as PlainLink,
  NavLink as PlainNavLink,
  useNavigate as usePlainNavigate,
} from "react-router";
import { inMarket } from "./market";

/** Links and ways of the router that stay in the market; nothing else of ours leads anywhere. */
type At<T> = Omit<T, "to"> & { to: string };

export const Link = forwardRef<HTMLAnchorElement, At<ComponentProps<typeof PlainLink>>>(({ to, ...rest }, ref) => (
  <PlainLink ref={ref} to={inMarket(to)} {...rest} />
));

export const NavLink = forwardRef<HTMLAnchorElement, At<ComponentProps<typeof PlainNavLink>>>(
  ({ to, ...rest }, ref) => <PlainNavLink ref={ref} to={inMarket(to)} {...rest} />,
);

export function useNavigate(): (to: string | number, options?: NavigateOptions) => void {
  const navigate = usePlainNavigate();
  return useCallback(
    (to, options) => {
      void (typeof to === "number" ? navigate(to) : navigate(inMarket(to), options));
    },
    [navigate],
  );
}
