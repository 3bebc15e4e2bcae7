import { Link } from "react-router";
import { pieceOf } from "../../case/look";
import { type CardProps, type StepUi, scansScene } from "../../stage";

/** The same surface is here or in another case already. */
function Card({ data, node }: CardProps) {
  const twin = node && pieceOf(data, node.piece)?.twin;
  const other = node && pieceOf(data, node.piece)?.twin_case;
  return twin ? (
    <p className="rounded-lg bg-[var(--look-ground)] px-3 py-1.5 font-semibold text-warning">
      ▲ {twin}
      {other && (
        <>
          {" "}
          <Link to={`/case/${other}`} className="text-primary">
            Go to {other}
          </Link>
        </>
      )}
    </p>
  ) : null;
}

const intake: StepUi = { name: "intake", Card };
/** Every scan is looked at here, whatever it is. */
intake.scene = scansScene(intake, { all: true });

export default intake;
