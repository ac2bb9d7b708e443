import { short } from "../format";

// Id writes the end of an id; the whole on hover.
export const Id = ({ of: id }: { of: string }) => (
  <span className="mono" title={id}>
    {short(id)}
  </span>
);
