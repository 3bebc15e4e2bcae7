import type { CardProps, StepUi } from "../../stage";
import { Files } from "./Files";

const handOff: StepUi = { name: "hand-off", Below: ({ data }: CardProps) => <Files data={data} /> };

export default handOff;
