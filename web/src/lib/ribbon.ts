/** An archive's bytes to scale: asked for once, since a row of an archive is never about other bytes. */

import { api, got } from "./api";

export const ribbonOf = (archive_id: number) => ({
  queryKey: ["ribbon", archive_id],
  queryFn: () => got(api.GET("/api/archives/{archive_id}/ribbon", { params: { path: { archive_id } } })),
});
