export { ProofSheet as default } from "./ProofSheet";
