import { ActionIcon, type ActionIconProps, Anchor, type AnchorProps, Button, type ButtonProps } from "@mantine/core";
import { createLink } from "@tanstack/react-router";
import type { AnchorHTMLAttributes, Ref } from "react";

type A<P> = P & Omit<AnchorHTMLAttributes<HTMLAnchorElement>, keyof P> & { ref?: Ref<HTMLAnchorElement> };

/** To is a link to a page of the console: where it leads, with what, is checked by its types. */
export const To = createLink((p: A<AnchorProps>) => <Anchor component="a" {...p} />);

/** ToButton is a link that looks like a button. */
export const ToButton = createLink((p: A<ButtonProps>) => <Button component="a" {...p} />);

/** ToIcon is a link that is an icon. */
export const ToIcon = createLink((p: A<ActionIconProps>) => <ActionIcon component="a" {...p} />);
