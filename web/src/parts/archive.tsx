import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert } from "@mantine/core";
import { IconArchive } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { tracing } from "../api/trace";
import { exact, moment } from "./time";
import { To } from "./to";

/** Says that what is shown is from an archive, and leads back. */
export function ArchiveNote({ note }: { note?: string }) {
	const { archive } = useSearch({ strict: false }) as { archive?: number };
	const list = useQuery({ queryKey: ["archives"], queryFn: tracing.archives, enabled: archive !== undefined });
	if (archive === undefined) {
		return null;
	}
	const one = list.data?.items.find((a) => a.id === archive);
	return (
		<Alert color="brass" p="xs" icon={<IconArchive size={18} />}>
			<Trans>This is from the archive {one ? one.name : archive}</Trans>
			{one && t` of ${one.about.host_name}, ${moment(one.about.since, false)} to ${exact(one.about.until)}`}
			<Trans>
				, not from this server's own records. {note}{" "}
				<To to="/trace" inherit>
					<Trans>Back to the live records</Trans>
				</To>
			</Trans>
		</Alert>
	);
}
