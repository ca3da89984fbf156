import "@mantine/core/styles/Notification.layer.css";
import "@mantine/notifications/styles.layer.css";
import { Notifications } from "@mantine/notifications";

/** Where notices come up. */
export default function Notices() {
	return <Notifications position="bottom-right" />;
}
